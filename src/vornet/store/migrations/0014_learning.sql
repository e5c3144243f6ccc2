-- What findings made of the signs' weights, family by family, each version signed by a person; and stops acknowledged.

CREATE TABLE sign_weights (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    weights_id    bigint GENERATED ALWAYS AS IDENTITY,
    family        text NOT NULL,
    effective_from date NOT NULL,
    factors       jsonb NOT NULL,             -- "cause|sign" → factor; what is not named is 1
    changed       jsonb NOT NULL DEFAULT '[]', -- what this version changed: sign, from, to, findings
    past          jsonb NOT NULL DEFAULT '{}', -- what it would have changed in the past, as shown when it was signed
    why           text NOT NULL DEFAULT '',
    signed_by     text NOT NULL,
    signed_at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, weights_id)
);
CREATE INDEX sign_weights_of_family ON sign_weights (fleet_id, family, weights_id);
ALTER TABLE sign_weights ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON sign_weights USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT ON sign_weights TO vornet_app;

-- A stop, proposed or signed, goes to whoever answers for the unit, again until somebody has said that it was heard.
CREATE TABLE stop_heard (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    sample_id     bigint NOT NULL,
    compartment_id bigint NOT NULL,
    heard_by      text NOT NULL,
    heard_at      timestamptz NOT NULL DEFAULT now(),
    note          text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, sample_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
ALTER TABLE stop_heard ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON stop_heard USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT ON stop_heard TO vornet_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app;

-- A verdict signed again takes back what the one before it opened.
ALTER TABLE action ADD COLUMN withdrawn_by bigint;
ALTER TABLE action DROP CONSTRAINT action_check;
ALTER TABLE action ADD CONSTRAINT action_closed_on_something
    CHECK ((closed_at IS NULL) = (closed_sample_id IS NULL AND finding_id IS NULL AND withdrawn_by IS NULL));
