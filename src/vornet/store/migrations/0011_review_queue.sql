-- Review walks along what was drawn lately without reading the samples themselves.
ALTER TABLE evaluation ADD COLUMN sampled_on date;
UPDATE evaluation e SET sampled_on = s.sampled_on FROM sample s WHERE s.fleet_id = e.fleet_id AND s.sample_id = e.sample_id;
CREATE INDEX evaluation_drawn ON evaluation (fleet_id, sampled_on);
