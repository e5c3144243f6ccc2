-- Estimated new oil, histories set aside, headroom as it is, the order of the Board.

-- New-oil values that used samples tell where no record does: from `day` on, never changed by what came later. `samples`: how
-- many used samples of the oil there were when they were last made.
CREATE TABLE new_oil_estimate (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    oil_id        bigint NOT NULL,
    steps         jsonb NOT NULL, -- [[measurand, day, value, sd], …]
    samples       integer NOT NULL,
    made_at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, oil_id),
    FOREIGN KEY (fleet_id, oil_id) REFERENCES oil ON DELETE CASCADE
);

-- A compartment whose history stopped the judgement: left out, so that nobody else waits for it, and tried again every time.
CREATE TABLE set_aside (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    compartment_id bigint NOT NULL,
    trouble       text NOT NULL,
    since         timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, compartment_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);

-- What holds now, with a fault open; and what the Board puts first: 0 Stop, 1 Act nobody answered, 2 past safe life, 3 overdue, 4 held,
-- 5 the rest.
ALTER TABLE standing ADD COLUMN headroom_as_is double precision;
ALTER TABLE standing ADD COLUMN open_measurands text[] NOT NULL DEFAULT '{}';
ALTER TABLE standing ADD COLUMN urgency smallint NOT NULL DEFAULT 5;
DROP INDEX standing_ranking;
CREATE INDEX standing_ranking ON standing (fleet_id, urgency, ranking);

-- Headroom that holds today: as it is with a fault open, none while a Stop stands.
CREATE FUNCTION headroom_now(urgency smallint, open_faults text[], headroom double precision, headroom_as_is double precision)
RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT CASE WHEN urgency = 0 THEN least(0, headroom, headroom_as_is)
                WHEN cardinality(open_faults) > 0 THEN least(headroom, headroom_as_is)
                ELSE headroom END
$$;
GRANT EXECUTE ON FUNCTION headroom_now(smallint, text[], double precision, double precision) TO vornet_app;

-- What the planner knows of tables grows stale with a bulk load; only their owner may look again.
CREATE FUNCTION collect_statistics() RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    ANALYZE unit, compartment, drain_interval, meter_reading, drain, top_up, event, level_check, bottle, sample, evaluation, standing, hold, held_row, verdict;
END $$;
REVOKE ALL ON FUNCTION collect_statistics() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION collect_statistics() TO vornet_app;

ALTER TABLE new_oil_estimate ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON new_oil_estimate USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE set_aside ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON set_aside USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE, DELETE ON new_oil_estimate, set_aside TO vornet_app;
