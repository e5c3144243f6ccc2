-- The slopes behind a decision are opened one compartment at a time, and were most of its size: packed beside it.
ALTER TABLE standing ADD COLUMN slopes bytea;

-- What a batch of families was last evaluated from: the same again need not be worked again. The part '' is the screening.
CREATE TABLE evaluated (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    part          text NOT NULL,
    families      text[] NOT NULL DEFAULT '{}',
    digest        bytea NOT NULL,
    PRIMARY KEY (fleet_id, part)
);
ALTER TABLE evaluated ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON evaluated USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE, DELETE ON evaluated TO vornet_app;
