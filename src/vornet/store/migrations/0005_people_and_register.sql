-- Roles' surroundings (settings, tokens, first run) and the register in full: two meters, states, equipment as
-- validated facts, oil batches, attachments, templates, service plans and their records.

-- ---- people --------------------------------------------------------------------------------------------------
ALTER TABLE fleet ADD COLUMN measures text NOT NULL DEFAULT 'si' CHECK (measures IN ('si', 'us')),
                  ADD COLUMN schools jsonb NOT NULL DEFAULT '{}'; -- schools of practice, where not the default
GRANT UPDATE (zone, measures, schools) ON fleet TO vornet_app;
DROP FUNCTION fleets_of(integer);
CREATE FUNCTION fleets_of(wanted integer) RETURNS TABLE (fleet_id integer, name text, role text, measures text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public
    AS 'SELECT f.fleet_id, f.name, m.role, f.measures FROM membership m JOIN fleet f USING (fleet_id)
        WHERE m.account_id = wanted ORDER BY f.fleet_id';

ALTER TABLE session ADD COLUMN agent text NOT NULL DEFAULT '';
CREATE INDEX session_account ON session (account_id);
ALTER TABLE sign_in_failure ADD COLUMN address text NOT NULL DEFAULT '';
CREATE INDEX sign_in_failure_address ON sign_in_failure (address, at);

-- The code that lets the first person in, while there is no account yet.
CREATE TABLE first_run (
    code_hash bytea PRIMARY KEY,
    made_at   timestamptz NOT NULL DEFAULT now()
);
GRANT SELECT, INSERT, DELETE ON first_run TO vornet_app;

-- A key for a program: acts as its owner, in one fleet, within its scopes, until it ends.
CREATE TABLE api_token (
    fleet_id   integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    token_id   bigint GENERATED ALWAYS AS IDENTITY,
    account_id integer NOT NULL REFERENCES account ON DELETE CASCADE,
    name       text NOT NULL,
    token_hash bytea NOT NULL UNIQUE,
    scopes     text[] NOT NULL,
    made_at    timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    used_at    timestamptz,
    revoked_at timestamptz,
    PRIMARY KEY (fleet_id, token_id)
);
CREATE FUNCTION token_owner(wanted bytea)
    RETURNS TABLE (fleet_id integer, token_id bigint, account_id integer, scopes text[], login text, display_name text,
                   role text, fleet text, measures text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public
    AS 'SELECT t.fleet_id, t.token_id, t.account_id, t.scopes, a.login, a.display_name, m.role, f.name, f.measures
        FROM api_token t JOIN account a USING (account_id) JOIN fleet f USING (fleet_id)
        JOIN membership m ON m.fleet_id = t.fleet_id AND m.account_id = t.account_id
        WHERE t.token_hash = wanted AND t.revoked_at IS NULL AND t.expires_at > now()';

-- ---- the register --------------------------------------------------------------------------------------------
-- facts: what the register models know beyond the columns, and any further keys a file brought
ALTER TABLE unit RENAME COLUMN extra TO facts;
ALTER TABLE compartment RENAME COLUMN extra TO facts;
ALTER TABLE oil RENAME COLUMN extra TO facts;

ALTER TABLE unit ADD COLUMN second_meter_unit text CHECK (second_meter_unit IN ('h', 'km')),
                 ADD COLUMN estimated_per_day double precision CHECK (estimated_per_day > 0), -- no meter: this much a day
                 ADD COLUMN state text NOT NULL DEFAULT 'in_service' CHECK (state IN ('in_service', 'laid_up', 'retired'));
-- which of the unit's meters a compartment counts, and what that meter counts
ALTER TABLE compartment ADD COLUMN meter_no smallint NOT NULL DEFAULT 1 CHECK (meter_no IN (1, 2)),
                        ADD COLUMN counts text NOT NULL DEFAULT 'h' CHECK (counts IN ('h', 'km')),
                        ADD COLUMN shared_unit_id bigint, -- a sump shared with another unit, whose meter is named too
                        ADD FOREIGN KEY (fleet_id, shared_unit_id) REFERENCES unit;
UPDATE compartment c SET counts = u.meter_unit FROM unit u WHERE u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id;
CREATE INDEX compartment_unit ON compartment (fleet_id, unit_id);

ALTER TABLE meter_reading ADD COLUMN meter_no smallint NOT NULL DEFAULT 1 CHECK (meter_no IN (1, 2));
ALTER TABLE meter_change ADD COLUMN meter_no smallint NOT NULL DEFAULT 1 CHECK (meter_no IN (1, 2));
DROP INDEX meter_reading_current;
CREATE UNIQUE INDEX meter_reading_current ON meter_reading (fleet_id, unit_id, on_day, meter, meter_no)
    WHERE superseded_by IS NULL;
ALTER TABLE meter_change DROP CONSTRAINT meter_change_fleet_id_unit_id_on_day_key;
ALTER TABLE meter_change ADD UNIQUE (fleet_id, unit_id, on_day, meter_no);

-- a level read between marks whose volume nobody knows yet
ALTER TABLE level_check ALTER COLUMN level_missing_l DROP NOT NULL;

CREATE TABLE unit_state (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    unit_id     bigint NOT NULL,
    on_day      date NOT NULL,
    state       text NOT NULL CHECK (state IN ('in_service', 'laid_up', 'retired')),
    note        text NOT NULL DEFAULT '',
    recorded_at timestamptz NOT NULL DEFAULT now(),
    recorded_by text NOT NULL,
    PRIMARY KEY (fleet_id, unit_id, on_day),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE
);

CREATE TABLE oil_batch (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    batch_id    bigint GENERATED ALWAYS AS IDENTITY,
    oil_id      bigint NOT NULL,
    batch       text NOT NULL,
    received_on date,
    litres      double precision CHECK (litres > 0),
    sample_no   text, -- the sample of new oil drawn from it
    note        text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, batch_id),
    UNIQUE (fleet_id, oil_id, batch),
    FOREIGN KEY (fleet_id, oil_id) REFERENCES oil ON DELETE CASCADE
);

-- Manuals, plate photos and drawings.
CREATE TABLE attachment (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    attachment_id bigint GENERATED ALWAYS AS IDENTITY,
    unit_id     bigint NOT NULL,
    compartment_id bigint,
    name        text NOT NULL,
    kind        text NOT NULL CHECK (kind IN ('manual', 'plate', 'drawing', 'photo')),
    media_type  text NOT NULL,
    content     bytea NOT NULL,
    sha256      bytea NOT NULL,
    recorded_at timestamptz NOT NULL DEFAULT now(),
    recorded_by text NOT NULL,
    PRIMARY KEY (fleet_id, attachment_id),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE INDEX attachment_unit ON attachment (fleet_id, unit_id);

-- A family's pattern: a unit with its compartments and plan, without history.
CREATE TABLE unit_template (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    template_id bigint GENERATED ALWAYS AS IDENTITY,
    name        text NOT NULL,
    content     jsonb NOT NULL,
    recorded_at timestamptz NOT NULL DEFAULT now(),
    recorded_by text NOT NULL,
    PRIMARY KEY (fleet_id, template_id),
    UNIQUE (fleet_id, name)
);

-- Service plans. What makes an item due is in columns; due_* is worked out when anything it rests on changes.
CREATE TABLE service_item (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    item_id     bigint GENERATED ALWAYS AS IDENTITY,
    unit_id     bigint NOT NULL,
    compartment_id bigint,
    name        text NOT NULL,
    every_meter double precision CHECK (every_meter > 0),
    every_days  integer CHECK (every_days > 0),
    every_nth   smallint CHECK (every_nth BETWEEN 2 AND 50),
    nth_of      text,
    first_meter double precision CHECK (first_meter > 0), -- after new or overhauled: break-in
    season      text, -- MM-DD: before this day each year
    condition   text, -- by what is seen, in words
    facts       jsonb NOT NULL DEFAULT '{}', -- reading with tolerance, grease points, parts, note
    due_meter   double precision,
    due_day     date,
    driver      text,
    to_due      double precision,
    last_day    date,
    last_meter  double precision,
    PRIMARY KEY (fleet_id, item_id),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE UNIQUE INDEX service_item_name ON service_item (fleet_id, unit_id, coalesce(compartment_id, 0), name);
CREATE INDEX service_item_due ON service_item (fleet_id, due_day);
CREATE INDEX service_item_unit ON service_item (fleet_id, unit_id);

CREATE TABLE service_record (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    record_id   bigint GENERATED ALWAYS AS IDENTITY,
    item_id     bigint NOT NULL,
    on_day      date NOT NULL,
    meter       double precision CHECK (meter >= 0),
    outcome     text NOT NULL DEFAULT 'done' CHECK (outcome IN ('done', 'looked_at', 'not_done')),
    reading     jsonb NOT NULL DEFAULT '{}',
    note        text NOT NULL DEFAULT '',
    client_id   uuid,
    recorded_at timestamptz NOT NULL DEFAULT now(),
    recorded_by text NOT NULL,
    superseded_by bigint,
    superseded_why text,
    PRIMARY KEY (fleet_id, record_id),
    FOREIGN KEY (fleet_id, item_id) REFERENCES service_item ON DELETE CASCADE
);
CREATE UNIQUE INDEX service_record_current ON service_record (fleet_id, item_id, on_day) WHERE superseded_by IS NULL;
CREATE UNIQUE INDEX service_record_client ON service_record (fleet_id, client_id);

-- What the register says against what was poured and read, while a person has not decided.
CREATE TABLE doubt (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    compartment_id bigint NOT NULL,
    field       text NOT NULL,
    said        double precision,
    learned     double precision NOT NULL,
    low         double precision NOT NULL,
    high        double precision NOT NULL,
    n           integer NOT NULL,
    settled     text CHECK (settled IN ('taken', 'kept')),
    settled_by  text,
    settled_at  timestamptz,
    why         text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, compartment_id, field),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);

ALTER TABLE api_token ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON api_token
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE unit_state ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON unit_state
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE oil_batch ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON oil_batch
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE attachment ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON attachment
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE unit_template ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON unit_template
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE service_item ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON service_item
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE service_record ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON service_record
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE doubt ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON doubt
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);

GRANT SELECT, INSERT, UPDATE, DELETE ON unit_state, oil_batch, attachment, unit_template, service_item, service_record,
    doubt, api_token TO vornet_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app;
CREATE INDEX audit_recent ON audit (fleet_id, at DESC);
