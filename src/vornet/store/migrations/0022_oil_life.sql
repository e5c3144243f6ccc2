-- Each compartment's last charges and how much of their oil's life was used, kept where it stands: drawn for a whole fleet at once.
ALTER TABLE standing ADD COLUMN charges jsonb, -- [[fill day, end day or null, hours or null], …], days since 0001-01-01
    ADD COLUMN life double precision,
    ADD COLUMN life_used double precision,
    ADD COLUMN early_l double precision,
    ADD COLUMN overrun double precision;
DELETE FROM evaluated;
INSERT INTO touched (fleet_id, what, id) SELECT fleet_id, 'compartment', compartment_id FROM standing ON CONFLICT DO NOTHING;
