-- The lab's side: labs and how their files come in, files in pieces, shipments of bottles, corrections by people.

CREATE TABLE lab (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    lab_id      bigint GENERATED ALWAYS AS IDENTITY,
    name        text NOT NULL CHECK (name <> ''),
    way         text NOT NULL DEFAULT 'hand' CHECK (way IN ('hand', 'pull', 'folder')),
    address     text NOT NULL DEFAULT '',   -- pull: where the lab listens; folder: the folder to watch
    key         text NOT NULL DEFAULT '',
    usual_days  integer NOT NULL DEFAULT 10 CHECK (usual_days BETWEEN 1 AND 365),
    depots      text[] NOT NULL DEFAULT '{}', -- whose bottles go there; none: any
    meanings    jsonb NOT NULL DEFAULT '{}',  -- heading as written -> {key, unit}; '' is left out
    cursor      text NOT NULL DEFAULT '',
    asked_at    timestamptz,
    trouble     text NOT NULL DEFAULT '',
    recorded_by text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, lab_id),
    UNIQUE (fleet_id, name)
);

-- A parcel of bottles with its packing list.
CREATE TABLE shipment (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    shipment_id bigint GENERATED ALWAYS AS IDENTITY,
    number      text NOT NULL,
    lab_id      bigint NOT NULL,
    made_on     date NOT NULL,
    sent_on     date,
    told_at     timestamptz, -- when the lab was told of it
    trouble     text NOT NULL DEFAULT '',
    note        text NOT NULL DEFAULT '',
    made_by     text NOT NULL,
    sent_by     text,
    PRIMARY KEY (fleet_id, shipment_id),
    UNIQUE (fleet_id, number),
    FOREIGN KEY (fleet_id, lab_id) REFERENCES lab
);

ALTER TABLE bottle ALTER COLUMN compartment_id DROP NOT NULL; -- none: a sample of new oil
ALTER TABLE bottle
    ADD COLUMN batch text NOT NULL DEFAULT '',
    ADD COLUMN shipment_id bigint,
    ADD COLUMN received_on date,
    ADD COLUMN lost_on date,
    ADD COLUMN lost_why text NOT NULL DEFAULT '',
    ADD COLUMN lost_by text,
    ADD FOREIGN KEY (fleet_id, shipment_id) REFERENCES shipment;
CREATE INDEX bottle_shipment ON bottle (fleet_id, shipment_id);
CREATE INDEX bottle_drawn ON bottle (fleet_id, drawn_on);

-- A file as it came, in pieces: long files pass through flat memory.
CREATE TABLE import_piece (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    import_file_id bigint NOT NULL,
    n           integer NOT NULL,
    content     bytea NOT NULL,
    PRIMARY KEY (fleet_id, import_file_id, n),
    FOREIGN KEY (fleet_id, import_file_id) REFERENCES import_file ON DELETE CASCADE
);
ALTER TABLE import_piece ALTER COLUMN content SET STORAGE EXTERNAL;
INSERT INTO import_piece SELECT fleet_id, import_file_id, 0, content FROM import_file;
ALTER TABLE import_file DROP COLUMN content;
ALTER TABLE import_file
    ADD COLUMN state text NOT NULL DEFAULT 'done' CHECK (state IN ('waiting', 'reading', 'mapping', 'done', 'refused')),
    ADD COLUMN way text NOT NULL DEFAULT 'hand',
    ADD COLUMN rows_done integer NOT NULL DEFAULT 0,
    ADD COLUMN reading text NOT NULL DEFAULT '',
    ADD COLUMN trouble text NOT NULL DEFAULT '',
    ADD COLUMN again_at timestamptz; -- when the same bytes last came in once more



-- What a person changed of a sample, and why; the sample's earlier rows stay, superseded.
CREATE TABLE correction (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    correction_id bigint GENERATED ALWAYS AS IDENTITY,
    sample_id   bigint NOT NULL,
    old_sample_id bigint NOT NULL,
    kind        text NOT NULL CHECK (kind IN ('corrected', 'swapped', 'accepted')),
    what        text NOT NULL,
    why         text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    made_by     text NOT NULL,
    PRIMARY KEY (fleet_id, correction_id)
);
CREATE INDEX correction_sample ON correction (fleet_id, sample_id);

-- What goes with a hold's sentence: the other bottle of a swap, the litres of a top-up nobody recorded.
ALTER TABLE hold ADD COLUMN facts jsonb NOT NULL DEFAULT '{}';
CREATE INDEX hold_open ON hold (fleet_id, hold_id) WHERE settled_at IS NULL;
CREATE INDEX held_row_open ON held_row (fleet_id, held_row_id) WHERE resolved_at IS NULL;

ALTER TABLE lab ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON lab USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE shipment ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON shipment USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE import_piece ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON import_piece USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE correction ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON correction USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE, DELETE ON lab, shipment, import_piece TO vornet_app;
GRANT SELECT, INSERT ON correction TO vornet_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app;

-- Which fleets have labs to ask: the one question a worker asks before it knows a fleet.
CREATE FUNCTION fleets_with_labs() RETURNS TABLE (fleet_id integer)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public
    AS 'SELECT DISTINCT fleet_id FROM lab WHERE way <> ''hand'' ORDER BY 1';
