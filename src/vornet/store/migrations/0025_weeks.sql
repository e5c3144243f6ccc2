-- The weeks: how many crew hours and bays a depot has on which day, where units are, visits on their days, stock, feeds and mail.
ALTER TABLE depot ADD COLUMN hours double precision[] CHECK (cardinality(hours) = 7), -- Monday first; NULL: nobody has said yet
    ADD COLUMN bays smallint[] CHECK (cardinality(bays) = 7); -- NULL: bays are not counted
ALTER TABLE fleet ADD COLUMN weeks jsonb NOT NULL DEFAULT '{}'; -- hours by kind of work, what a visit is worth

-- Holidays and other days on which a depot has more or less than its weekday says.
CREATE TABLE depot_day (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    depot_id    bigint NOT NULL,
    on_day      date NOT NULL,
    hours       double precision NOT NULL CHECK (hours BETWEEN 0 AND 1000),
    bays        smallint CHECK (bays BETWEEN 0 AND 1000),
    why         text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, depot_id, on_day),
    FOREIGN KEY (fleet_id, depot_id) REFERENCES depot ON DELETE CASCADE
);

-- On which days a unit is at its depot; without a row: any day.
CREATE TABLE rota (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    unit_id     bigint NOT NULL,
    rule        jsonb NOT NULL,
    set_by      text NOT NULL,
    set_at      timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, unit_id),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE
);

-- A plan that was worked out, waits for a yes, and says what would move.
CREATE TABLE proposal (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    proposal_id bigint GENERATED ALWAYS AS IDENTITY,
    first_day   date NOT NULL,
    days        smallint NOT NULL CHECK (days BETWEEN 1 AND 400),
    state       text NOT NULL DEFAULT 'working' CHECK (state IN ('working', 'ready', 'accepted', 'dropped', 'failed')),
    progress    text NOT NULL DEFAULT '',
    asked_by    text NOT NULL,
    asked_at    timestamptz NOT NULL DEFAULT now(),
    plan        jsonb NOT NULL DEFAULT '{}',
    ended_by    text,
    PRIMARY KEY (fleet_id, proposal_id)
);

-- What the plan that was taken last had no day for.
CREATE TABLE placeless (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    placeless_id bigint GENERATED ALWAYS AS IDENTITY,
    unit_id     bigint NOT NULL,
    keys        text[] NOT NULL,
    what        text[] NOT NULL,
    latest      date NOT NULL,
    why         text NOT NULL,
    way         text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, placeless_id),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE
);
CREATE INDEX placeless_latest ON placeless (fleet_id, latest);

-- A visit of a unit to its depot on a day. Its uid is what calendars know it by; every change raises its sequence.
CREATE TABLE visit (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    visit_id    bigint GENERATED ALWAYS AS IDENTITY,
    uid         uuid NOT NULL DEFAULT gen_random_uuid(),
    sequence    integer NOT NULL DEFAULT 0,
    unit_id     bigint NOT NULL,
    depot_id    bigint,
    on_day      date NOT NULL,
    hours       double precision NOT NULL CHECK (hours >= 0),
    state       text NOT NULL DEFAULT 'planned' CHECK (state IN ('planned', 'done', 'cancelled')),
    fixed       boolean NOT NULL DEFAULT false,
    job_id      bigint,
    done_on     date,
    took_h      double precision CHECK (took_h BETWEEN 0 AND 200),
    note        text NOT NULL DEFAULT '',
    short       jsonb NOT NULL DEFAULT '[]', -- what it will miss, where stock is counted
    made_on     date NOT NULL, -- the fleet's day on which it was planned
    first_on    date NOT NULL, -- the day it was first planned for
    made_at     timestamptz NOT NULL DEFAULT now(),
    made_by     text NOT NULL,
    changed_at  timestamptz NOT NULL DEFAULT now(),
    changed_by  text NOT NULL,
    PRIMARY KEY (fleet_id, visit_id),
    UNIQUE (fleet_id, uid),
    FOREIGN KEY (fleet_id, unit_id) REFERENCES unit ON DELETE CASCADE,
    FOREIGN KEY (fleet_id, depot_id) REFERENCES depot,
    FOREIGN KEY (fleet_id, job_id) REFERENCES job
);
CREATE INDEX visit_by_day ON visit (fleet_id, on_day) WHERE state = 'planned';
CREATE INDEX visit_of_unit ON visit (fleet_id, unit_id, on_day);
CREATE INDEX visit_of_job ON visit (fleet_id, job_id);

-- What a visit is for, as it stood when the visit was planned.
CREATE TABLE visit_task (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    visit_id    bigint NOT NULL,
    key         text NOT NULL, -- drain:ID, item:ID, bottle:ID, action:ID, look:ID
    what        text NOT NULL,
    compartment_id bigint,
    item_id     bigint,
    hours       double precision NOT NULL,
    due_day     date NOT NULL,
    earliest    date NOT NULL,
    latest      date NOT NULL,
    worth_h     double precision NOT NULL, -- what losing the whole of its life would cost, in crew hours
    life_days   double precision NOT NULL,
    litres      double precision,
    share_due   double precision, -- share of the oil's life that is used on its due day
    done_on     date,
    PRIMARY KEY (fleet_id, visit_id, key),
    FOREIGN KEY (fleet_id, visit_id) REFERENCES visit ON DELETE CASCADE
);
CREATE INDEX visit_task_key ON visit_task (fleet_id, key);

-- Stock of a depot, kept only where somebody counts it: what there is, is the last count and what came and went since.
CREATE TABLE stock_thing (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    thing       text NOT NULL, -- 'oil NAME' in litres, or a part by its name, in pieces
    lead_days   smallint NOT NULL DEFAULT 7 CHECK (lead_days BETWEEN 0 AND 400),
    least       double precision NOT NULL DEFAULT 0 CHECK (least >= 0),
    PRIMARY KEY (fleet_id, thing)
);
CREATE TABLE stock_move (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    move_id     bigint GENERATED ALWAYS AS IDENTITY,
    depot_id    bigint NOT NULL,
    thing       text NOT NULL,
    kind        text NOT NULL CHECK (kind IN ('counted', 'received', 'used')),
    amount      double precision NOT NULL CHECK (amount >= 0 AND amount < 1e9),
    on_day      date NOT NULL,
    part_id     bigint, -- of the job that used it
    note        text NOT NULL DEFAULT '',
    recorded_at timestamptz NOT NULL DEFAULT now(),
    recorded_by text NOT NULL,
    PRIMARY KEY (fleet_id, move_id),
    FOREIGN KEY (fleet_id, depot_id) REFERENCES depot ON DELETE CASCADE
);
CREATE INDEX stock_move_of ON stock_move (fleet_id, depot_id, thing, move_id);
CREATE UNIQUE INDEX stock_move_once ON stock_move (fleet_id, part_id, thing) WHERE part_id IS NOT NULL;

-- Calendars that others subscribe to: whoever has the link may read them until it is taken back. Only its hash is kept.
CREATE TABLE feed (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    feed_id     bigint GENERATED ALWAYS AS IDENTITY,
    secret_hash bytea NOT NULL UNIQUE,
    depot_id    bigint, -- one depot's, or
    account_id  integer REFERENCES account ON DELETE CASCADE, -- those that a person answers for
    made_by     text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    read_at     timestamptz,
    revoked_at  timestamptz,
    PRIMARY KEY (fleet_id, feed_id),
    FOREIGN KEY (fleet_id, depot_id) REFERENCES depot ON DELETE CASCADE
);
CREATE FUNCTION feed_of(wanted bytea) RETURNS TABLE (fleet_id integer, feed_id bigint)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT fleet_id, feed_id FROM feed WHERE secret_hash = wanted AND revoked_at IS NULL';
REVOKE ALL ON FUNCTION feed_of(bytea) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION feed_of(bytea) TO vornet_app;

-- Who answers for which depots, and what is sent to them.
CREATE TABLE contact (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    account_id  integer NOT NULL REFERENCES account ON DELETE CASCADE,
    address     text NOT NULL,
    depots      bigint[], -- NULL: all
    week_day    smallint CHECK (week_day BETWEEN 0 AND 6), -- on which the week is sent, Monday 0; NULL: never
    week_hour   smallint NOT NULL DEFAULT 6 CHECK (week_hour BETWEEN 0 AND 23),
    stops       boolean NOT NULL DEFAULT true,
    PRIMARY KEY (fleet_id, account_id)
);
CREATE TABLE mail (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    mail_id     bigint GENERATED ALWAYS AS IDENTITY,
    about       text NOT NULL, -- what it is about, so that it is written once
    to_address  text NOT NULL,
    subject     text NOT NULL,
    plain       text NOT NULL,
    html        text NOT NULL,
    file_name   text NOT NULL DEFAULT '',
    file        bytea,
    made_at     timestamptz NOT NULL DEFAULT now(),
    tries       smallint NOT NULL DEFAULT 0,
    next_try_at timestamptz NOT NULL DEFAULT now(),
    trouble     text NOT NULL DEFAULT '',
    sent_at     timestamptz,
    PRIMARY KEY (fleet_id, mail_id),
    UNIQUE (fleet_id, about)
);
CREATE INDEX mail_waiting ON mail (fleet_id, next_try_at) WHERE sent_at IS NULL;
CREATE FUNCTION fleets_with_contacts() RETURNS TABLE (fleet_id integer)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT DISTINCT fleet_id FROM contact ORDER BY 1';
REVOKE ALL ON FUNCTION fleets_with_contacts() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION fleets_with_contacts() TO vornet_app;

ALTER TABLE depot_day ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON depot_day USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE rota ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON rota USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE proposal ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON proposal USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE placeless ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON placeless USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE visit ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON visit USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE visit_task ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON visit_task USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE stock_thing ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON stock_thing USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE stock_move ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON stock_move USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE feed ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON feed USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE contact ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON contact USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE mail ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON mail USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE, DELETE ON depot_day, rota, proposal, placeless, visit, visit_task, stock_thing, contact TO vornet_app;
GRANT SELECT, INSERT, UPDATE ON feed, mail TO vornet_app;
GRANT SELECT, INSERT ON stock_move TO vornet_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app;
GRANT UPDATE (weeks) ON fleet TO vornet_app;

-- Drains of the last weeks are asked for on Plan.
CREATE INDEX drain_by_day ON drain (fleet_id, on_day) WHERE superseded_by IS NULL;

-- The 90 % band of the day a drain or an item is due.
ALTER TABLE standing ADD COLUMN due_first date, ADD COLUMN due_last date;
ALTER TABLE service_item ADD COLUMN due_first date, ADD COLUMN due_last date;
DELETE FROM evaluated;
INSERT INTO touched (fleet_id, what, id) SELECT fleet_id, 'compartment', compartment_id FROM standing ON CONFLICT DO NOTHING;
