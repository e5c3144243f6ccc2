-- The register: depots, units and their meters, oils, compartments.
-- extra keeps what a register file said that Vornet does not use yet, so that a round trip loses nothing.

CREATE TABLE depot (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    depot_id      bigint GENERATED ALWAYS AS IDENTITY,
    name          text NOT NULL,
    PRIMARY KEY (fleet_id, depot_id),
    UNIQUE (fleet_id, name)
);

CREATE TABLE oil (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    oil_id        bigint GENERATED ALWAYS AS IDENTITY,
    name          text NOT NULL,
    grade         text,
    density_kg_l  double precision CHECK (density_kg_l BETWEEN 0.5 AND 1.5),
    new_values    double precision[] NOT NULL, -- in measurand order, NaN unknown
    extra         jsonb NOT NULL DEFAULT '{}',
    PRIMARY KEY (fleet_id, oil_id),
    UNIQUE (fleet_id, name)
);

CREATE TABLE unit (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    unit_id       bigint GENERATED ALWAYS AS IDENTITY,
    name          text NOT NULL,
    depot_id      bigint,
    model         text,
    duty          text,
    meter_unit    text NOT NULL DEFAULT 'h' CHECK (meter_unit IN ('h', 'km')),
    extra         jsonb NOT NULL DEFAULT '{}',
    PRIMARY KEY (fleet_id, unit_id),
    UNIQUE (fleet_id, name),
    FOREIGN KEY (fleet_id, depot_id) REFERENCES depot
);

CREATE TABLE compartment (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    compartment_id bigint GENERATED ALWAYS AS IDENTITY,
    unit_id       bigint NOT NULL,
    name          text NOT NULL,
    kind          text NOT NULL CHECK (kind IN ('engine', 'gearbox', 'primary', 'final_drive', 'differential',
                      'axle', 'hydraulics', 'compressor', 'other')),
    fuel          text CHECK (fuel IN ('diesel', 'gas', 'biogas', 'heavy', 'petrol', 'none')),
    family        text NOT NULL,
    system_volume_l double precision CHECK (system_volume_l > 0),
    capacity_l    double precision CHECK (capacity_l > 0),
    capacity_without_filter_l double precision CHECK (capacity_without_filter_l > 0),
    volume_between_marks_l double precision CHECK (volume_between_marks_l > 0),
    oil_id        bigint,
    cap_meter     double precision CHECK (cap_meter > 0),
    extra         jsonb NOT NULL DEFAULT '{}',
    PRIMARY KEY (fleet_id, compartment_id),
    UNIQUE (fleet_id, unit_id, name),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, oil_id) REFERENCES oil
);
CREATE INDEX compartment_family ON compartment (fleet_id, family);

-- The interval approved for a compartment from a day on; the old ones stay.
CREATE TABLE drain_interval (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    interval_id   bigint GENERATED ALWAYS AS IDENTITY,
    compartment_id bigint NOT NULL,
    effective_from date NOT NULL,
    meter         double precision CHECK (meter > 0),
    days          integer CHECK (days > 0),
    origin        text NOT NULL CHECK (origin IN ('register', 'approved')),
    approved_by   text NOT NULL,
    why           text NOT NULL DEFAULT '',
    evidence      jsonb,
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, interval_id),
    FOREIGN KEY (fleet_id, compartment_id) REFERENCES compartment ON DELETE CASCADE
);
CREATE INDEX drain_interval_latest ON drain_interval (fleet_id, compartment_id, effective_from DESC, interval_id DESC);

-- Meters. Readings are what was read; a replacement says how the running total goes on.
CREATE TABLE meter_reading (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    reading_id    bigint GENERATED ALWAYS AS IDENTITY,
    unit_id       bigint NOT NULL,
    on_day        date NOT NULL,
    meter         double precision NOT NULL CHECK (meter >= 0),
    recorded_at   timestamptz NOT NULL DEFAULT now(),
    recorded_by   text NOT NULL,
    superseded_by bigint,
    superseded_why text,
    PRIMARY KEY (fleet_id, reading_id),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE
);
CREATE UNIQUE INDEX meter_reading_current ON meter_reading (fleet_id, unit_id, on_day, meter) WHERE superseded_by IS NULL;

CREATE TABLE meter_change (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    change_id     bigint GENERATED ALWAYS AS IDENTITY,
    unit_id       bigint NOT NULL,
    on_day        date NOT NULL,
    old_meter     double precision NOT NULL,
    new_meter     double precision NOT NULL,
    PRIMARY KEY (fleet_id, change_id),
    UNIQUE (fleet_id, unit_id, on_day),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE
);

ALTER TABLE depot ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON depot
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE oil ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON oil
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE unit ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON unit
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE compartment ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON compartment
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE drain_interval ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON drain_interval
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE meter_reading ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON meter_reading
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE meter_change ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON meter_change
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);

GRANT SELECT, INSERT, UPDATE, DELETE ON depot, oil, unit, compartment, drain_interval, meter_reading, meter_change TO vornet_app;
