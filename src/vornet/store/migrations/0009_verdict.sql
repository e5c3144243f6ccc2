-- The judgement: causes beside the proposal, verdicts that a person signs, what is to be done, what was really wrong.

ALTER TABLE evaluation ADD COLUMN hypotheses jsonb NOT NULL DEFAULT '[]';

-- Signed by a person; signing again supersedes, nothing is overwritten. `proposed`, `hypotheses` and the limit set are kept
-- as they stood, so that an old verdict keeps what it was made on.
CREATE TABLE verdict (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    verdict_id    bigint GENERATED ALWAYS AS IDENTITY,
    sample_id     bigint NOT NULL,
    compartment_id bigint NOT NULL,
    verdict       smallint NOT NULL CHECK (verdict BETWEEN 0 AND 3),
    proposed      smallint NOT NULL CHECK (proposed BETWEEN -1 AND 3),
    hypotheses    jsonb NOT NULL DEFAULT '[]',
    evidence      text[] NOT NULL DEFAULT '{}',
    limit_set_id  bigint NOT NULL,
    cause         text NOT NULL DEFAULT '',
    comment       text NOT NULL DEFAULT '',
    reason        text NOT NULL DEFAULT '',
    signed_at     timestamptz NOT NULL DEFAULT now(),
    signed_by     text NOT NULL,
    superseded_by bigint,
    PRIMARY KEY (fleet_id, verdict_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE,
    CHECK (verdict = proposed OR proposed = -1 OR reason <> '')
);
CREATE UNIQUE INDEX verdict_current ON verdict (fleet_id, sample_id) WHERE superseded_by IS NULL;
CREATE INDEX verdict_of_compartment ON verdict (fleet_id, compartment_id) WHERE superseded_by IS NULL;

-- What was really wrong, as the workshop found it; `said` is what Vornet had held at the time.
CREATE TABLE finding (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    finding_id    bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint NOT NULL,
    sample_id     bigint,
    on_day        date NOT NULL,
    cause         text NOT NULL,
    note          text NOT NULL DEFAULT '',
    said          jsonb NOT NULL DEFAULT '[]',
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    PRIMARY KEY (fleet_id, finding_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE INDEX finding_of_compartment ON finding (fleet_id, compartment_id, on_day);

-- Closes only on a later sample or a recorded finding.
CREATE TABLE action (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    action_id     bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint NOT NULL,
    sample_id     bigint NOT NULL,
    verdict_id    bigint,
    kind          text NOT NULL CHECK (kind IN ('do', 'resample')),
    cause         text NOT NULL DEFAULT '',
    what          text NOT NULL,
    owner         text NOT NULL DEFAULT '',
    due_on        date,
    opened_at     timestamptz NOT NULL DEFAULT now(),
    opened_by     text NOT NULL,
    closed_at     timestamptz,
    closed_by     text,
    closed_sample_id bigint,
    finding_id    bigint,
    PRIMARY KEY (fleet_id, action_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, finding_id) REFERENCES finding ON DELETE CASCADE,
    CHECK ((closed_at IS NULL) = (closed_sample_id IS NULL AND finding_id IS NULL))
);
CREATE INDEX action_open ON action (fleet_id, compartment_id) WHERE closed_at IS NULL;

ALTER TABLE verdict ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON verdict USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE finding ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON finding USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE action ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON action USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE ON verdict, action TO vornet_app;
GRANT SELECT, INSERT ON finding TO vornet_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app;
