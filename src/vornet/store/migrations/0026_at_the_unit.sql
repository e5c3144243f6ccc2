-- What is seen at the unit: pictures of any place, things noticed that can be put right, who began a job.

ALTER TABLE observation ADD COLUMN superseded_by bigint, ADD COLUMN superseded_why text;
ALTER TABLE service_record ADD COLUMN part_id bigint; -- the part of a job that it was done in

-- A picture belongs to a unit, and to whatever it shows: a job's step, an item, something noticed or put off, the register.
ALTER TABLE job_photo ALTER COLUMN job_id DROP NOT NULL;
ALTER TABLE job_photo ADD COLUMN unit_id bigint, ADD COLUMN compartment_id bigint, ADD COLUMN item_id bigint,
    ADD COLUMN observation_id bigint, ADD COLUMN deferred_id bigint, ADD COLUMN place text NOT NULL DEFAULT '',
    ADD COLUMN taken_back_by text, ADD COLUMN taken_back_why text;
UPDATE job_photo p SET unit_id = j.unit_id, place = p.about FROM job j WHERE j.fleet_id = p.fleet_id AND j.job_id = p.job_id;
UPDATE job_photo p SET compartment_id = x.compartment_id, item_id = x.item_id FROM job_part x
WHERE x.fleet_id = p.fleet_id AND x.part_id = p.part_id;
ALTER TABLE job_photo ALTER COLUMN unit_id SET NOT NULL;
ALTER TABLE job_photo ADD FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE;
CREATE INDEX job_photo_place ON job_photo (fleet_id, unit_id, compartment_id, place, at);
GRANT UPDATE (taken_back_by, taken_back_why) ON job_photo TO vornet_app;

-- Who began a job, and on which phone, so that a second one says so.
ALTER TABLE job ADD COLUMN opened_by text;
ALTER TABLE job_device ADD COLUMN device text NOT NULL DEFAULT '', ADD COLUMN opened_at timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN heard_at timestamptz;

-- What was seen at drains counts now: everything is judged again.
DELETE FROM evaluated;
INSERT INTO touched (fleet_id, what, id) SELECT fleet_id, 'compartment', compartment_id FROM standing ON CONFLICT DO NOTHING;

-- What a part of a job used goes back when the part is opened again.
GRANT UPDATE (part_id) ON stock_move TO vornet_app;

-- A filter, a magnetic filter or a breather as a job of its own, while the oil stays in.
ALTER TABLE job_part DROP CONSTRAINT job_part_task_check;
ALTER TABLE job_part ADD CONSTRAINT job_part_task_check CHECK (task IN ('drain', 'sample', 'filter', 'magnetic_filter', 'breather'));

-- A note sent from a phone that had no signal counts once.
CREATE TABLE note_heard (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    client_id   uuid NOT NULL,
    said        text NOT NULL,
    heard_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, client_id)
);
ALTER TABLE note_heard ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON note_heard USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT ON note_heard TO vornet_app;

-- Where a person works: whose jobs stand first on his page.
CREATE TABLE works_at (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    account_id  integer NOT NULL REFERENCES account ON DELETE CASCADE,
    depot_id    integer NOT NULL,
    PRIMARY KEY (fleet_id, account_id),
    FOREIGN KEY (fleet_id, depot_id) REFERENCES depot ON DELETE CASCADE
);
ALTER TABLE works_at ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON works_at USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE, DELETE ON works_at TO vornet_app;
