-- A new customer's own list: the file as it came, what was said of it, its rows that wait, and what its headings mean from now on.

CREATE TABLE list_file (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    list_file_id bigint GENERATED ALWAYS AS IDENTITY,
    name        text NOT NULL,
    content     bytea NOT NULL,
    assumed     jsonb NOT NULL DEFAULT '{}', -- what a person said of the whole list
    state       text NOT NULL DEFAULT 'mapping' CHECK (state IN ('mapping', 'done')),
    counts      jsonb NOT NULL DEFAULT '{}',
    notes       jsonb NOT NULL DEFAULT '[]',
    recorded_by text NOT NULL,
    recorded_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, list_file_id)
);
CREATE TABLE list_row (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    list_row_id bigint GENERATED ALWAYS AS IDENTITY,
    list_file_id bigint NOT NULL,
    row_no      integer NOT NULL,
    cells       jsonb NOT NULL, -- [[heading, cell], …] in the file's order
    problems    jsonb NOT NULL, -- [[heading, why, whether it speaks against another row], …]
    state       text NOT NULL DEFAULT 'waits' CHECK (state IN ('waits', 'in', 'left')),
    settled_by  text,
    settled_why text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, list_row_id),
    UNIQUE (fleet_id, list_file_id, row_no),
    FOREIGN KEY (fleet_id, list_file_id) REFERENCES list_file ON DELETE CASCADE
);
CREATE INDEX list_row_waits ON list_row (fleet_id, list_file_id) WHERE state = 'waits';
CREATE TABLE list_heading (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    heading     text NOT NULL,
    meaning     jsonb NOT NULL, -- {key, unit, compartment}; key '' is left out
    PRIMARY KEY (fleet_id, heading)
);
ALTER TABLE list_file ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON list_file USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE list_row ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON list_row USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE list_heading ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON list_heading USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE, DELETE ON list_file, list_row, list_heading TO vornet_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app;

-- The fleet's day is told from its zone, on every page and for every token and phone; how a person writes dates and figures.
ALTER TABLE account ADD COLUMN writes jsonb NOT NULL DEFAULT '{}'; -- {date, mark}: '' or absent as the browser's language
DROP FUNCTION fleets_of(integer);
CREATE FUNCTION fleets_of(wanted integer)
    RETURNS TABLE (fleet_id integer, name text, roles text[], measures text, second_factor text[], zone text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT f.fleet_id, f.name, m.roles, f.measures, f.second_factor, f.zone FROM membership m JOIN fleet f USING (fleet_id)
        WHERE m.account_id = wanted ORDER BY f.fleet_id';
DROP FUNCTION session_of(bytea, interval);
CREATE FUNCTION session_of(wanted bytea, idle interval)
    RETURNS TABLE (account_id integer, fleet_id integer, csrf text, stage text, second boolean, login text, display_name text, has_second boolean,
                   writes jsonb)
    LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    UPDATE session s SET used_at = now() WHERE s.token_hash = wanted AND s.expires_at > now() AND s.used_at > now() - idle
        AND s.used_at < now() - interval '1 minute';
    RETURN QUERY SELECT s.account_id, s.fleet_id, s.csrf, s.stage, s.second, a.login, a.display_name, a.totp <> '', a.writes
        FROM session s JOIN account a ON a.account_id = s.account_id
        WHERE s.token_hash = wanted AND s.expires_at > now() AND s.used_at > now() - idle;
END $$;
DROP FUNCTION token_owner(bytea);
CREATE FUNCTION token_owner(wanted bytea)
    RETURNS TABLE (fleet_id integer, token_id bigint, account_id integer, scopes text[], login text, display_name text,
                   roles text[], fleet text, measures text, owes_second boolean, zone text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT t.fleet_id, t.token_id, t.account_id, t.scopes, a.login, a.display_name, m.roles, f.name, f.measures,
               f.second_factor && m.roles AND a.totp = '''', f.zone
        FROM api_token t JOIN account a USING (account_id) JOIN fleet f USING (fleet_id)
        JOIN membership m ON m.fleet_id = t.fleet_id AND m.account_id = t.account_id
        WHERE t.token_hash = wanted AND t.revoked_at IS NULL AND t.expires_at > now()';
GRANT UPDATE (writes) ON account TO vornet_app;
DROP FUNCTION job_device_owner(bytea);
CREATE FUNCTION job_device_owner(wanted bytea)
    RETURNS TABLE (fleet_id integer, job_id bigint, account_id integer, login text, display_name text, roles text[], fleet text,
                   measures text, zone text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT d.fleet_id, d.job_id, d.account_id, a.login, a.display_name, m.roles, f.name, f.measures, f.zone
        FROM job_device d JOIN account a USING (account_id) JOIN fleet f USING (fleet_id)
        JOIN membership m ON m.fleet_id = d.fleet_id AND m.account_id = d.account_id
        WHERE d.token_hash = wanted AND d.expires_at > now()';

-- What of the first week a fleet has left aside.
ALTER TABLE fleet ADD COLUMN begun jsonb NOT NULL DEFAULT '{}';
GRANT UPDATE (begun) ON fleet TO vornet_app;

DO $$
DECLARE f record;
BEGIN
    FOR f IN SELECT p.oid::regprocedure AS signature, p.proname FROM pg_proc p
             WHERE p.pronamespace = 'public'::regnamespace
               AND p.proname IN ('fleets_of', 'session_of', 'token_owner', 'job_device_owner') LOOP
        EXECUTE format('REVOKE ALL ON FUNCTION %s FROM PUBLIC', f.signature);
        EXECUTE format('GRANT EXECUTE ON FUNCTION %s TO vornet_app', f.signature);
    END LOOP;
END $$;

-- Webhooks: an address that is told what happened, signed and tried again. What was there before it was made is not told.
CREATE TABLE webhook (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    webhook_id  bigint GENERATED ALWAYS AS IDENTITY,
    address     text NOT NULL,
    events      text[] NOT NULL CHECK (cardinality(events) > 0),
    secret      text NOT NULL, -- sealed
    last_sample bigint NOT NULL DEFAULT 0,
    last_verdict bigint NOT NULL DEFAULT 0,
    made_by     text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (fleet_id, webhook_id)
);
CREATE TABLE webhook_delivery (
    fleet_id    integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    delivery_id bigint GENERATED ALWAYS AS IDENTITY,
    webhook_id  bigint NOT NULL,
    event       text NOT NULL,
    about       text NOT NULL,
    body        jsonb NOT NULL DEFAULT '{}',
    state       text NOT NULL DEFAULT 'waits' CHECK (state IN ('before', 'waits', 'told', 'given up')),
    tries       integer NOT NULL DEFAULT 0,
    next_at     timestamptz NOT NULL DEFAULT now(),
    made_at     timestamptz NOT NULL DEFAULT now(),
    told_at     timestamptz,
    trouble     text NOT NULL DEFAULT '',
    PRIMARY KEY (fleet_id, delivery_id),
    UNIQUE (fleet_id, webhook_id, about),
    FOREIGN KEY (fleet_id, webhook_id) REFERENCES webhook ON DELETE CASCADE
);
CREATE INDEX webhook_delivery_waits ON webhook_delivery (fleet_id, next_at) WHERE state = 'waits';
ALTER TABLE webhook ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON webhook USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE webhook_delivery ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON webhook_delivery USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE, DELETE ON webhook, webhook_delivery TO vornet_app;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app;
CREATE FUNCTION fleets_with_webhooks() RETURNS TABLE (fleet_id integer)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT DISTINCT fleet_id FROM webhook ORDER BY 1';
REVOKE ALL ON FUNCTION fleets_with_webhooks() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION fleets_with_webhooks() TO vornet_app;

-- Letters as one searches for them: lower case, no accents, ß as ss.
CREATE FUNCTION plain_letters(given text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE SET search_path = public, pg_temp
    AS $$ SELECT translate(replace(replace(replace(lower(given), 'ß', 'ss'), 'æ', 'ae'), 'œ', 'oe'),
                           'àáâãäåçèéêëìíîïñòóôõöøùúûüýÿšžčřěů', 'aaaaaaceeeeiiiinoooooouuuuyyszcreu') $$;

-- Why limits changed stands with the version.
ALTER TABLE limit_set ADD COLUMN why text NOT NULL DEFAULT '';
