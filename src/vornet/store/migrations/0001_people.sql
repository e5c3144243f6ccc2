-- Fleets (tenants), who may sign in, and their sessions.
-- The application's role vornet_app owns nothing; row-level security keeps fleets apart.

CREATE TABLE fleet (
    fleet_id   integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE CHECK (name <> ''),
    zone       text NOT NULL DEFAULT 'UTC',
    is_demo    boolean NOT NULL DEFAULT false,
    created_at timestamptz NOT NULL DEFAULT now()
);
ALTER TABLE fleet ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON fleet
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);

-- People sign in once and may belong to several fleets, so an account has no fleet of its own.
CREATE TABLE account (
    account_id    integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    login         text NOT NULL UNIQUE CHECK (login = lower(login) AND login <> ''),
    display_name  text NOT NULL,
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE membership (
    fleet_id   integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    account_id integer NOT NULL REFERENCES account ON DELETE CASCADE,
    role       text NOT NULL CHECK (role IN ('technician', 'planner', 'analyst', 'manager', 'admin', 'viewer')),
    PRIMARY KEY (fleet_id, account_id)
);
ALTER TABLE membership ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON membership
    USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);

CREATE TABLE session (
    token_hash bytea PRIMARY KEY,
    account_id integer NOT NULL REFERENCES account ON DELETE CASCADE,
    fleet_id   integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    csrf       text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);

CREATE TABLE sign_in_failure (
    login text NOT NULL,
    at    timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX sign_in_failure_recent ON sign_in_failure (login, at);

-- The few questions that must be asked before a fleet is known.
CREATE FUNCTION fleet_named(wanted text) RETURNS integer
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public
    AS 'SELECT fleet_id FROM fleet WHERE name = wanted';

CREATE FUNCTION fleet_make(wanted text, wanted_zone text, demo boolean) RETURNS integer
    LANGUAGE sql SECURITY DEFINER SET search_path = public
    AS 'INSERT INTO fleet (name, zone, is_demo) VALUES (wanted, wanted_zone, demo) RETURNING fleet_id';

CREATE FUNCTION fleet_names() RETURNS TABLE (name text, is_demo boolean)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public
    AS 'SELECT name, is_demo FROM fleet ORDER BY fleet_id';

CREATE FUNCTION fleets_of(wanted integer) RETURNS TABLE (fleet_id integer, name text, role text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public
    AS 'SELECT f.fleet_id, f.name, m.role FROM membership m JOIN fleet f USING (fleet_id)
        WHERE m.account_id = wanted ORDER BY f.fleet_id';

GRANT SELECT ON fleet TO vornet_app;
GRANT SELECT, INSERT, UPDATE, DELETE ON membership TO vornet_app;
GRANT SELECT, INSERT, UPDATE ON account TO vornet_app;
GRANT SELECT, INSERT, UPDATE, DELETE ON session, sign_in_failure TO vornet_app;
