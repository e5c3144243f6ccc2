-- Holds, limits, evaluations and where every compartment stands.

-- Why a sample is kept out of baselines and judgements, and who let it in or threw it out.
CREATE TABLE hold (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    hold_id       bigint GENERATED ALWAYS AS IDENTITY,
    sample_id     bigint NOT NULL,
    reason        text NOT NULL,
    detail        text NOT NULL,
    raised_at     timestamptz NOT NULL DEFAULT now(),
    settled_at    timestamptz,
    settled_by    text,
    settlement    text CHECK (settlement IN ('released', 'rejected', 'cleared')),
    why           text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, hold_id),
    UNIQUE (fleet_id, sample_id, reason)
);

-- Dated versions: an old verdict keeps the limits it was made with.
CREATE TABLE limit_set (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    limit_set_id  bigint GENERATED ALWAYS AS IDENTITY,
    version       integer NOT NULL,
    effective_from date NOT NULL,
    limits        jsonb NOT NULL,
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    PRIMARY KEY (fleet_id, limit_set_id),
    UNIQUE (fleet_id, version)
);

CREATE TABLE policy (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    policy_id     bigint GENERATED ALWAYS AS IDENTITY,
    version       integer NOT NULL,
    effective_from date NOT NULL,
    rules         jsonb NOT NULL,
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    PRIMARY KEY (fleet_id, policy_id),
    UNIQUE (fleet_id, version)
);

-- The machine's proposal for a sample: -1 none, 0 run on, 1 watch, 2 act, 3 stop.
CREATE TABLE evaluation (
    fleet_id      integer NOT NULL,
    sample_id     bigint NOT NULL,
    proposed      smallint NOT NULL CHECK (proposed BETWEEN -1 AND 3),
    limit_set_id  bigint NOT NULL,
    oil_hours     double precision,
    evidence      text[] NOT NULL DEFAULT '{}',
    PRIMARY KEY (fleet_id, sample_id)
);

-- Where a compartment stands as of the last evaluation; the Board reads this and nothing else.
CREATE TABLE standing (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    compartment_id bigint NOT NULL,
    as_of         date NOT NULL,
    meter_day     date,
    oil_hours     double precision,
    headroom      double precision,
    headroom_is_safe boolean NOT NULL,
    headroom_open boolean NOT NULL DEFAULT false, -- at least this much: beyond the evidence
    running_safe  double precision,
    limiting      text,
    interval_meter double precision,
    to_due        double precision,
    due_meter     double precision,
    due_day       date,
    due_driver    text,
    rate_per_day  double precision,
    last_sample_id bigint,
    last_proposed smallint,
    last_sampled_on date,
    held          integer NOT NULL DEFAULT 0,
    open_faults   text[] NOT NULL DEFAULT '{}',
    outcome       text NOT NULL,
    proposed_meter double precision,
    reason        text NOT NULL,
    ranking       double precision NOT NULL,
    decision      jsonb NOT NULL,
    PRIMARY KEY (fleet_id, compartment_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE INDEX standing_ranking ON standing (fleet_id, ranking);

-- What is usual for a family: healthy history per measurand, dated.
CREATE TABLE baseline (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    family        text NOT NULL,
    measurand     text NOT NULL,
    as_of         date NOT NULL,
    n             integer NOT NULL,
    mean          double precision NOT NULL,
    sd            double precision NOT NULL,
    PRIMARY KEY (fleet_id, family, measurand, as_of)
);

-- Append-only: who did what.
CREATE TABLE audit (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    audit_id      bigint GENERATED ALWAYS AS IDENTITY,
    at            timestamptz NOT NULL DEFAULT now(),
    who           text NOT NULL,
    what          text NOT NULL,
    about         text NOT NULL,
    detail        jsonb NOT NULL DEFAULT '{}',
    PRIMARY KEY (fleet_id, audit_id)
);

ALTER TABLE hold ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON hold
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE limit_set ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON limit_set
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE policy ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON policy
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE evaluation ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON evaluation
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE standing ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON standing
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE baseline ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON baseline
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE audit ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON audit
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);

GRANT SELECT, INSERT, UPDATE, DELETE ON hold, limit_set, policy, evaluation, standing, baseline TO vornet_app;
GRANT SELECT, INSERT ON audit TO vornet_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app;

CREATE FUNCTION fleet_drop(wanted integer) RETURNS void
    LANGUAGE sql SECURITY DEFINER SET search_path = public
    AS 'DELETE FROM evaluation WHERE fleet_id = wanted;
        DELETE FROM sample WHERE fleet_id = wanted;
        DELETE FROM fleet WHERE fleet_id = wanted;';
