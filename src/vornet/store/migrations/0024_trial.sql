-- A part of a visit may be a bottle alone, between two drains.
ALTER TABLE job_part ADD COLUMN task text NOT NULL DEFAULT 'drain' CHECK (task IN ('drain', 'sample'));

-- A longer interval is tried on one charge, with bottles along it, before it is adopted.
CREATE TABLE rollout (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    rollout_id  bigint GENERATED ALWAYS AS IDENTITY,
    family      text NOT NULL,
    length      double precision NOT NULL CHECK (length > 0),
    why         text NOT NULL DEFAULT '',
    started_on  date NOT NULL,
    started_by  text NOT NULL,
    closed_on   date,
    closed_by   text,
    closing     text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, rollout_id)
);
CREATE TABLE trial (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    trial_id    bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint NOT NULL,
    rollout_id  bigint,
    length      double precision NOT NULL CHECK (length > 0),
    before      double precision NOT NULL CHECK (before > 0),
    steps       double precision[] NOT NULL, -- oil hours (or km) of its bottles, the last one where the trial's charge ends
    why         text NOT NULL DEFAULT '',
    started_on  date NOT NULL,
    started_by  text NOT NULL,
    evidence    jsonb NOT NULL DEFAULT '{}',
    state       text NOT NULL DEFAULT 'running' CHECK (state IN ('running', 'stopped', 'adopted', 'fell_back')),
    progress    jsonb NOT NULL DEFAULT '{}', -- as the last evaluation saw it
    next_at     double precision,
    next_day    date,
    ended_on    date,
    ended_by    text,
    ending      text NOT NULL DEFAULT '',
    seen_by     text, -- who has taken note that it stopped
    PRIMARY KEY (fleet_id, trial_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, rollout_id) REFERENCES rollout ON DELETE CASCADE
);
CREATE UNIQUE INDEX trial_one_at_a_time ON trial (fleet_id, compartment_id) WHERE state = 'running';
CREATE INDEX trial_of ON trial (fleet_id, compartment_id, started_on DESC);
ALTER TABLE drain_interval DROP CONSTRAINT drain_interval_origin_check,
    ADD CONSTRAINT drain_interval_origin CHECK (origin IN ('register', 'approved', 'stated', 'trial', 'fell_back'));
ALTER TABLE rollout ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON rollout USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE trial ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON trial USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE ON rollout, trial TO vornet_app;

-- Whether an approved interval has held, kept where a compartment stands.
ALTER TABLE standing ADD COLUMN held_word text CHECK (held_word IN ('held', 'early', 'back')), ADD COLUMN held_back double precision,
    ADD COLUMN held_since jsonb,
    ADD COLUMN act_now double precision, ADD COLUMN act_proposed double precision, -- chance past an act limit at today's length, at the proposed
    ADD COLUMN reckoning bytea; -- what chances are reckoned from, '' where no property answers
DELETE FROM evaluated;
INSERT INTO touched (fleet_id, what, id) SELECT fleet_id, 'compartment', compartment_id FROM standing ON CONFLICT DO NOTHING;

-- A proposal that somebody does not follow, and why; it stands until something else is proposed.
CREATE TABLE declined (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    declined_id bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint NOT NULL,
    outcome     text NOT NULL,
    proposed    double precision,
    current     double precision,
    why         text NOT NULL,
    on_day      date NOT NULL,
    by          text NOT NULL,
    PRIMARY KEY (fleet_id, declined_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE INDEX declined_of ON declined (fleet_id, compartment_id, declined_id DESC);
ALTER TABLE declined ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON declined USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT ON declined TO vornet_app;
