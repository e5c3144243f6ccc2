-- How well each measurand is known, where a fleet (or its lab) knows better than the start values: dated versions.
CREATE TABLE precision_set (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    version       integer NOT NULL,
    effective_from date NOT NULL,
    rows          jsonb NOT NULL,
    why           text NOT NULL,
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    PRIMARY KEY (fleet_id, version)
);
ALTER TABLE precision_set ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON precision_set USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT ON precision_set TO vornet_app;
