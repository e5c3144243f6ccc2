-- One place says what is in force. What was said of a compartment's interval stays in drain_interval, added to and never rewritten; each
-- row now says which of two facts it speaks of, the length or the calendar limit, on which day it was said, and what its evidence rested
-- on. What follows from it, day by day, is worked by one rule (core/in_force.py) and kept in in_force, which everything reads.
ALTER TABLE drain_interval
    ADD COLUMN says_length boolean NOT NULL DEFAULT true,
    ADD COLUMN says_calendar boolean NOT NULL DEFAULT true,
    ADD COLUMN said_on date NOT NULL DEFAULT current_date,
    ADD COLUMN oil_id bigint,        -- in use when it was said
    ADD COLUMN renewed_on date,      -- the last overhaul or exchange then
    ADD COLUMN upholds boolean NOT NULL DEFAULT false, -- what waited still holds
    ADD COLUMN trial_id bigint;
-- said as long as anybody could know it: a file that is loaded later says what was said before
UPDATE drain_interval SET said_on = least(recorded_at::date, effective_from);
UPDATE drain_interval i SET
    oil_id = coalesce((SELECT coalesce(d.oil_id, c.oil_id) FROM drain d WHERE d.fleet_id = i.fleet_id AND d.compartment_id = i.compartment_id
                       AND d.superseded_by IS NULL AND d.on_day <= i.said_on ORDER BY d.on_day DESC, d.meter DESC, d.drain_id DESC LIMIT 1), c.oil_id),
    renewed_on = (SELECT max(e.on_day) FROM event e WHERE e.fleet_id = i.fleet_id AND e.compartment_id = i.compartment_id
                  AND e.superseded_by IS NULL AND e.kind IN ('overhaul', 'component_exchange') AND e.on_day <= i.said_on)
FROM compartment c
WHERE c.fleet_id = i.fleet_id AND c.compartment_id = i.compartment_id AND i.origin IN ('approved', 'trial', 'fell_back');
UPDATE drain_interval i SET trial_id = t.trial_id FROM trial t
WHERE t.fleet_id = i.fleet_id AND t.compartment_id = i.compartment_id AND i.origin = 'trial' AND t.started_on = i.effective_from;
-- Rows that repeated a length only to change the calendar limit spoke of the calendar alone; approvals that repeated the calendar of the length.
WITH seen AS (
    SELECT fleet_id, interval_id, origin, meter, days,
           lag(meter) OVER w AS meter_before, lag(days) OVER w AS days_before, lag(interval_id) OVER w AS before,
           (SELECT r.meter FROM drain_interval r WHERE r.fleet_id = i.fleet_id AND r.compartment_id = i.compartment_id
              AND r.origin = 'register' AND r.interval_id < i.interval_id ORDER BY r.interval_id DESC LIMIT 1) AS register_before
    FROM drain_interval i WINDOW w AS (PARTITION BY fleet_id, compartment_id ORDER BY effective_from, interval_id)
)
UPDATE drain_interval i SET
    says_length = s.before IS NULL OR s.origin IN ('approved', 'trial', 'fell_back') OR s.days IS NOT DISTINCT FROM s.days_before
        OR NOT (s.meter IS NOT DISTINCT FROM s.meter_before OR s.meter IS NOT DISTINCT FROM s.register_before),
    says_calendar = s.before IS NULL OR s.days IS DISTINCT FROM s.days_before
FROM seen s WHERE s.fleet_id = i.fleet_id AND s.interval_id = i.interval_id;
ALTER TABLE drain_interval ALTER COLUMN said_on DROP DEFAULT,
    ADD CONSTRAINT drain_interval_says CHECK (says_length OR says_calendar);
CREATE INDEX drain_interval_said ON drain_interval (fleet_id, compartment_id, interval_id);

-- What became of one that was said for a day to come: its guards were asked on its day and let it begin, or a person took it back.
CREATE TABLE interval_turn (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    interval_id bigint NOT NULL,
    kind        text NOT NULL CHECK (kind IN ('begun', 'withdrawn')),
    on_day      date NOT NULL,
    by          text NOT NULL DEFAULT '',
    why         text NOT NULL DEFAULT '',
    recorded_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, interval_id, kind),
    FOREIGN KEY (fleet_id, interval_id) REFERENCES drain_interval ON DELETE CASCADE
);
-- what had begun by its day before guards were asked
INSERT INTO interval_turn (fleet_id, interval_id, kind, on_day)
SELECT fleet_id, interval_id, 'begun', effective_from FROM drain_interval WHERE effective_from > said_on AND effective_from <= current_date;

CREATE TABLE in_force (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    compartment_id bigint NOT NULL,
    fact        text NOT NULL CHECK (fact IN ('length', 'calendar')),
    place       smallint NOT NULL, -- in order of its days
    interval_id bigint NOT NULL,
    origin      text NOT NULL,
    value       double precision,
    from_day    date NOT NULL,
    until_day   date, -- the first day on which it does not stand any more
    state       text NOT NULL CHECK (state IN ('waits', 'stands', 'stood', 'never')),
    why         text NOT NULL DEFAULT '',
    by_id       bigint, -- the later word that ended it
    held_up     jsonb,  -- of one that waits past its day: what stood against it when it was last asked
    asked_on    date,
    PRIMARY KEY (fleet_id, compartment_id, fact, place),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, interval_id) REFERENCES drain_interval ON DELETE CASCADE
);
CREATE INDEX in_force_waits ON in_force (fleet_id, from_day) WHERE state = 'waits';
-- as it was reckoned until now; the rule takes its place with the next evaluation
INSERT INTO in_force (fleet_id, compartment_id, fact, place, interval_id, origin, value, from_day, until_day, state)
SELECT fleet_id, compartment_id, fact, row_number() OVER w - 1, interval_id, origin, value, effective_from, lead(effective_from) OVER w,
       CASE WHEN lead(effective_from) OVER w IS NULL THEN 'stands' ELSE 'stood' END
FROM (SELECT i.* FROM (
      SELECT fleet_id, compartment_id, 'length' AS fact, interval_id, origin, meter AS value, effective_from FROM drain_interval WHERE says_length
      UNION ALL
      SELECT fleet_id, compartment_id, 'calendar', interval_id, origin, days, effective_from FROM drain_interval WHERE says_calendar) i
      JOIN compartment USING (fleet_id, compartment_id)) x
WINDOW w AS (PARTITION BY fleet_id, compartment_id, fact ORDER BY effective_from, interval_id);

ALTER TABLE interval_turn ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON interval_turn USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE in_force ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON in_force USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT ON interval_turn TO vornet_app;
GRANT SELECT, INSERT, UPDATE, DELETE ON in_force TO vornet_app;

-- A drain that names no oil was of the usual one: when another becomes the usual one, it keeps the one it was of.
CREATE FUNCTION drains_keep_their_oil() RETURNS trigger LANGUAGE plpgsql SET search_path = public, pg_temp AS $$
BEGIN
    UPDATE drain SET oil_id = OLD.oil_id WHERE fleet_id = OLD.fleet_id AND compartment_id = OLD.compartment_id AND oil_id IS NULL;
    RETURN NEW;
END $$;
REVOKE ALL ON FUNCTION drains_keep_their_oil() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION drains_keep_their_oil() TO vornet_app;
CREATE TRIGGER drains_keep_their_oil AFTER UPDATE OF oil_id ON compartment FOR EACH ROW
    WHEN (OLD.oil_id IS NOT NULL AND OLD.oil_id IS DISTINCT FROM NEW.oil_id) EXECUTE FUNCTION drains_keep_their_oil();

-- Since when an item stands in the plan: a season's day that has passed since then undone is overdue, not next year's.
ALTER TABLE service_item ADD COLUMN since date NOT NULL DEFAULT current_date;
UPDATE service_item i SET since = least(coalesce(f.judged_on, current_date), current_date) FROM fleet f WHERE f.fleet_id = i.fleet_id;

DELETE FROM evaluated;
INSERT INTO touched (fleet_id, what, id) SELECT fleet_id, 'compartment', compartment_id FROM standing ON CONFLICT DO NOTHING;
