-- What a recorded fact changed and nobody has judged anew yet: touched by whoever writes the fact, taken off by whoever opened
-- the transaction (or by a worker), never left to the writer itself. "plan" is a unit whose due dates follow.
CREATE TABLE touched (
    fleet_id integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    what     text NOT NULL CHECK (what IN ('compartment', 'plan')),
    id       bigint NOT NULL
);
-- no unique key: two transactions that touch one compartment must not wait for each other
CREATE INDEX touched_in_fleet ON touched (fleet_id);
ALTER TABLE touched ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON touched USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, DELETE ON touched TO vornet_app;

-- How often reading a file was begun without an end: one that ended its reader twice is set aside.
ALTER TABLE import_file ADD COLUMN begun smallint NOT NULL DEFAULT 0;
