-- The drain job at the unit: cards, what was entered (added to, never changed), photos, bottles, what was put off.

CREATE TABLE job (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    job_id      bigint GENERATED ALWAYS AS IDENTITY,
    unit_id     bigint NOT NULL,
    planned_on  date NOT NULL,
    state       text NOT NULL DEFAULT 'planned' CHECK (state IN ('planned', 'open', 'done', 'part', 'stopped', 'cancelled')),
    note        text NOT NULL DEFAULT '',
    made_at     timestamptz NOT NULL DEFAULT now(),
    made_by     text NOT NULL,
    opened_at   timestamptz,
    closed_at   timestamptz,
    PRIMARY KEY (fleet_id, job_id),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE
);
CREATE INDEX job_by_state ON job (fleet_id, state, planned_on);

-- What a visit is for: an oil drain of a compartment, or a service item.
CREATE TABLE job_part (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    part_id     bigint GENERATED ALWAYS AS IDENTITY,
    job_id      bigint NOT NULL,
    place       smallint NOT NULL,
    compartment_id bigint,
    item_id     bigint,
    sample      boolean NOT NULL DEFAULT true,
    state       text NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'done', 'stopped', 'deferred')),
    reason      text NOT NULL DEFAULT '',
    drain_id    bigint,
    figures     jsonb NOT NULL DEFAULT '{}', -- what the part ended with: residual, share, poured, packs, next due
    PRIMARY KEY (fleet_id, part_id),
    FOREIGN KEY (fleet_id, job_id) REFERENCES job ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, item_id) REFERENCES service_item ON DELETE CASCADE
);
CREATE INDEX job_part_job ON job_part (fleet_id, job_id);

-- Every tap that said something. The device's own id makes a second sending change nothing.
CREATE TABLE job_entry (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    entry_id    uuid NOT NULL,
    job_id      bigint NOT NULL,
    part_id     bigint,
    key         text NOT NULL,
    value       jsonb NOT NULL,
    at          timestamptz NOT NULL, -- the device's clock, put right by what it was wrong when the page was opened
    received_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    by          text NOT NULL,
    PRIMARY KEY (fleet_id, entry_id),
    FOREIGN KEY (fleet_id, job_id) REFERENCES job ON DELETE CASCADE
);
CREATE INDEX job_entry_job ON job_entry (fleet_id, job_id, at);

CREATE TABLE job_photo (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    photo_id    uuid NOT NULL,
    job_id      bigint NOT NULL,
    part_id     bigint,
    about       text NOT NULL,
    content     bytea NOT NULL,
    at          timestamptz NOT NULL DEFAULT now(),
    by          text NOT NULL,
    PRIMARY KEY (fleet_id, photo_id),
    FOREIGN KEY (fleet_id, job_id) REFERENCES job ON DELETE CASCADE
);

-- A device may send entries for one job until this ends, whatever became of the session.
CREATE TABLE job_device (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    token_hash  bytea NOT NULL,
    job_id      bigint NOT NULL,
    account_id  integer NOT NULL REFERENCES account ON DELETE CASCADE,
    expires_at  timestamptz NOT NULL,
    PRIMARY KEY (fleet_id, token_hash),
    FOREIGN KEY (fleet_id, job_id) REFERENCES job ON DELETE CASCADE
);
CREATE FUNCTION job_device_owner(wanted bytea)
    RETURNS TABLE (fleet_id integer, job_id bigint, account_id integer, login text, display_name text, role text, fleet text,
                   measures text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public
    AS 'SELECT d.fleet_id, d.job_id, d.account_id, a.login, a.display_name, m.role, f.name, f.measures
        FROM job_device d JOIN account a USING (account_id) JOIN fleet f USING (fleet_id)
        JOIN membership m ON m.fleet_id = d.fleet_id AND m.account_id = d.account_id
        WHERE d.token_hash = wanted AND d.expires_at > now()';

-- What could not be done at once: a part that is not there, a rounded plug, a defect seen; and levels to look at again.
CREATE TABLE deferred (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    deferred_id bigint GENERATED ALWAYS AS IDENTITY,
    unit_id     bigint NOT NULL,
    compartment_id bigint,
    job_id      bigint,
    entry_id    uuid,
    kind        text NOT NULL CHECK (kind IN ('part_missing', 'plug', 'defect', 'stopped', 'recheck', 'other')),
    what        text NOT NULL,
    part        text NOT NULL DEFAULT '',
    owner       text NOT NULL DEFAULT '',
    due_on      date,
    level_left  double precision, -- a re-check: the level the job ended with
    made_at     timestamptz NOT NULL DEFAULT now(),
    made_by     text NOT NULL,
    closed_at   timestamptz,
    closed_by   text,
    finding     text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, deferred_id),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE UNIQUE INDEX deferred_entry ON deferred (fleet_id, entry_id);
CREATE INDEX deferred_open ON deferred (fleet_id, due_on) WHERE closed_at IS NULL;

-- A bottle and its label, from the moment it is drawn.
CREATE TABLE bottle (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    bottle_id   bigint GENERATED ALWAYS AS IDENTITY,
    sample_no   text NOT NULL,
    compartment_id bigint NOT NULL,
    drawn_on    date NOT NULL,
    meter       double precision,
    oil_hours   double precision,
    oil_id      bigint,
    topup_l     double precision,
    conditions  jsonb NOT NULL DEFAULT '{}',
    drain_id    bigint,
    drawn_by    text NOT NULL,
    recorded_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, bottle_id),
    UNIQUE (fleet_id, sample_no),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);

-- Used oil and filters handed to a licensed collector.
CREATE TABLE waste (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    waste_id    bigint GENERATED ALWAYS AS IDENTITY,
    job_id      bigint,
    compartment_id bigint,
    on_day      date NOT NULL,
    litres      double precision NOT NULL CHECK (litres >= 0),
    handed_to   text NOT NULL DEFAULT '',
    recorded_by text NOT NULL,
    PRIMARY KEY (fleet_id, waste_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);

-- In between: symptoms and coolant made up.
CREATE TABLE observation (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    observation_id bigint GENERATED ALWAYS AS IDENTITY,
    unit_id     bigint NOT NULL,
    compartment_id bigint,
    on_day      date NOT NULL,
    meter       double precision,
    kind        text NOT NULL CHECK (kind IN ('symptom', 'coolant')),
    what        text NOT NULL,
    litres      double precision CHECK (litres > 0),
    note        text NOT NULL DEFAULT '',
    client_id   uuid,
    recorded_at timestamptz NOT NULL DEFAULT now(),
    recorded_by text NOT NULL,
    PRIMARY KEY (fleet_id, observation_id),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE UNIQUE INDEX observation_client ON observation (fleet_id, client_id);

ALTER TABLE job ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON job USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE job_part ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON job_part USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE job_entry ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON job_entry USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE job_photo ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON job_photo USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE job_device ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON job_device USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE deferred ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON deferred USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE bottle ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON bottle USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE waste ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON waste USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE observation ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON observation USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE, DELETE ON job, job_part, job_device, deferred, bottle, waste, observation TO vornet_app;
GRANT SELECT, INSERT ON job_entry, job_photo TO vornet_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app;
