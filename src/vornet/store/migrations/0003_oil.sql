-- What happens to the oil: drains, top-ups, level checks, events, samples and their results.
-- Nothing measured is overwritten: a correction adds a row and marks the old one superseded.

CREATE TABLE drain (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    drain_id      bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint NOT NULL,
    on_day        date NOT NULL,
    meter         double precision NOT NULL CHECK (meter >= 0),
    volume_out_l  double precision CHECK (volume_out_l >= 0),
    volume_out_kind text NOT NULL DEFAULT 'unknown' CHECK (volume_out_kind IN ('measured', 'estimated', 'unknown')),
    level_missing_l double precision,
    volume_in_l   double precision CHECK (volume_in_l >= 0),
    oil_id        bigint,
    filter_changed boolean,
    magnet_grade  smallint CHECK (magnet_grade BETWEEN 0 AND 4),
    air_filter    text CHECK (air_filter IN ('clean', 'dusty', 'blocked', 'leaking')),
    sample_no     text,
    note          text NOT NULL DEFAULT '',
    client_id     uuid,
    extra         jsonb NOT NULL DEFAULT '{}',
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    superseded_by bigint,
    superseded_why text,
    PRIMARY KEY (fleet_id, drain_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, oil_id) REFERENCES oil
);
CREATE UNIQUE INDEX drain_current ON drain (fleet_id, compartment_id, on_day) WHERE superseded_by IS NULL;
CREATE UNIQUE INDEX drain_client ON drain (fleet_id, client_id);

CREATE TABLE top_up (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    top_up_id     bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint NOT NULL,
    on_day        date NOT NULL,
    meter         double precision NOT NULL CHECK (meter >= 0),
    litres        double precision NOT NULL CHECK (litres > 0),
    extra         jsonb NOT NULL DEFAULT '{}',
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    superseded_by bigint,
    superseded_why text,
    PRIMARY KEY (fleet_id, top_up_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE UNIQUE INDEX top_up_current ON top_up (fleet_id, compartment_id, on_day, meter) WHERE superseded_by IS NULL;

CREATE TABLE level_check (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    level_check_id bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint NOT NULL,
    on_day        date NOT NULL,
    meter         double precision,
    level_missing_l double precision NOT NULL,
    extra         jsonb NOT NULL DEFAULT '{}',
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    superseded_by bigint,
    superseded_why text,
    PRIMARY KEY (fleet_id, level_check_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE UNIQUE INDEX level_check_current ON level_check (fleet_id, compartment_id, on_day, meter) WHERE superseded_by IS NULL;

CREATE TABLE event (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    event_id      bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint NOT NULL,
    on_day        date NOT NULL,
    meter         double precision NOT NULL,
    kind          text NOT NULL CHECK (kind IN ('part_change', 'repair', 'overhaul', 'component_exchange')),
    litres_out    double precision CHECK (litres_out >= 0),
    litres_in     double precision CHECK (litres_in >= 0),
    filter_changed boolean,
    serial        text,
    note          text NOT NULL DEFAULT '',
    extra         jsonb NOT NULL DEFAULT '{}',
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    superseded_by bigint,
    superseded_why text,
    PRIMARY KEY (fleet_id, event_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE UNIQUE INDEX event_current ON event (fleet_id, compartment_id, on_day, kind) WHERE superseded_by IS NULL;

-- A file as it came, whole, and the rows of it that could not go in.
CREATE TABLE import_file (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    import_file_id bigint GENERATED ALWAYS AS IDENTITY,
    name          text NOT NULL,
    lab           text NOT NULL DEFAULT '',
    sha256        bytea NOT NULL,
    bytes         bigint NOT NULL,
    content       bytea NOT NULL,
    layout        text NOT NULL,
    rows_in       integer NOT NULL DEFAULT 0,
    rows_new      integer NOT NULL DEFAULT 0,
    rows_same     integer NOT NULL DEFAULT 0,
    rows_reissued integer NOT NULL DEFAULT 0,
    rows_held     integer NOT NULL DEFAULT 0,
    notes         text[] NOT NULL DEFAULT '{}',
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    PRIMARY KEY (fleet_id, import_file_id)
);
CREATE INDEX import_file_sha ON import_file (fleet_id, sha256);

CREATE TABLE held_row (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    held_row_id   bigint GENERATED ALWAYS AS IDENTITY,
    import_file_id bigint NOT NULL,
    row_no        integer NOT NULL,
    reason        text NOT NULL,
    field         text NOT NULL,
    detail        text NOT NULL,
    sample_no     text NOT NULL DEFAULT '',
    lab           text NOT NULL DEFAULT '',
    unit_name     text NOT NULL DEFAULT '',
    compartment_name text NOT NULL DEFAULT '',
    sampled_on    date,
    original      jsonb NOT NULL,
    digest        bytea NOT NULL,
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    resolved_at   timestamptz,
    resolved_by   text,
    resolution    text,
    PRIMARY KEY (fleet_id, held_row_id),
    FOREIGN KEY (fleet_id, import_file_id) REFERENCES import_file ON DELETE CASCADE
);
CREATE UNIQUE INDEX held_row_once ON held_row (fleet_id, digest, reason);

-- One row a sample; results as one array in measurand order (a row a result took nine times the space).
-- below, above: bit i set means that result i was reported as <value, >value.
CREATE TABLE sample (
    fleet_id      integer NOT NULL, -- no foreign keys: millions of rows, checked at import
    sample_id     bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint,      -- null: a sample of new oil
    unit_id       bigint,
    oil_id        bigint,
    sampled_on    date NOT NULL,
    meter         double precision,
    oil_hours     double precision,
    topup_l       double precision,
    drained       boolean NOT NULL DEFAULT false,
    filter_changed boolean,
    below         bigint NOT NULL DEFAULT 0,
    above         bigint NOT NULL DEFAULT 0,
    values        double precision[] NOT NULL,
    sample_no     text NOT NULL,
    lab           text NOT NULL DEFAULT '',
    received_on   date,
    reported_on   date,
    comment       text,
    severity      text,
    import_file_id bigint,
    row_no        integer,
    digest        bigint NOT NULL,
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    superseded_by bigint,
    superseded_why text,
    PRIMARY KEY (fleet_id, sample_id)
);
CREATE UNIQUE INDEX sample_identity ON sample (fleet_id, lab, sample_no) WHERE superseded_by IS NULL;
CREATE INDEX sample_history ON sample (fleet_id, compartment_id, sampled_on) WHERE superseded_by IS NULL;

ALTER TABLE drain ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON drain
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE top_up ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON top_up
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE level_check ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON level_check
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE event ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON event
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE import_file ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON import_file
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE held_row ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON held_row
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE sample ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON sample
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);

GRANT SELECT, INSERT, UPDATE, DELETE ON drain, top_up, level_check, event, import_file, held_row, sample TO vornet_app;
