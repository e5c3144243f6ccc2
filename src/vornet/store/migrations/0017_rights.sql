-- Nobody signs for another: several roles a person, invitations that the invitee accepts, passwords by a link used once, intervals that a
-- file only states, and functions that nobody can be led astray with.
ALTER TABLE membership ADD COLUMN roles text[];
UPDATE membership SET roles = ARRAY[role];
ALTER TABLE membership ALTER COLUMN roles SET NOT NULL, DROP COLUMN role,
    ADD CHECK (cardinality(roles) > 0 AND roles <@ ARRAY['technician', 'planner', 'analyst', 'manager', 'admin', 'viewer']);

-- What a register file says was approved somewhere: stated by file, loaded by whoever loaded it.
ALTER TABLE drain_interval DROP CONSTRAINT drain_interval_origin_check,
    ADD CHECK (origin IN ('register', 'approved', 'stated'));

-- Only a link's hash is kept. Whoever opens it signs in, or makes a sign-in, and accepts.
CREATE TABLE invitation (
    fleet_id      integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    invitation_id bigint GENERATED ALWAYS AS IDENTITY,
    token_hash    bytea NOT NULL UNIQUE,
    name          text NOT NULL,
    roles         text[] NOT NULL CHECK (cardinality(roles) > 0),
    made_by       text NOT NULL,
    made_at       timestamptz NOT NULL DEFAULT now(),
    expires_at    timestamptz NOT NULL,
    ended_at      timestamptz, -- accepted, or taken back
    account_id    integer REFERENCES account ON DELETE SET NULL,
    PRIMARY KEY (fleet_id, invitation_id)
);
-- A new password for a member, by a link used once.
CREATE TABLE password_link (
    fleet_id   integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    token_hash bytea NOT NULL UNIQUE,
    account_id integer NOT NULL REFERENCES account ON DELETE CASCADE,
    made_by    text NOT NULL,
    made_at    timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    used_at    timestamptz,
    PRIMARY KEY (fleet_id, token_hash)
);
ALTER TABLE invitation ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON invitation USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
ALTER TABLE password_link ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON password_link USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT, UPDATE ON invitation, password_link TO vornet_app;

DROP FUNCTION fleets_of(integer);
CREATE FUNCTION fleets_of(wanted integer) RETURNS TABLE (fleet_id integer, name text, roles text[], measures text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT f.fleet_id, f.name, m.roles, f.measures FROM membership m JOIN fleet f USING (fleet_id)
        WHERE m.account_id = wanted ORDER BY f.fleet_id';
DROP FUNCTION token_owner(bytea);
CREATE FUNCTION token_owner(wanted bytea)
    RETURNS TABLE (fleet_id integer, token_id bigint, account_id integer, scopes text[], login text, display_name text,
                   roles text[], fleet text, measures text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT t.fleet_id, t.token_id, t.account_id, t.scopes, a.login, a.display_name, m.roles, f.name, f.measures
        FROM api_token t JOIN account a USING (account_id) JOIN fleet f USING (fleet_id)
        JOIN membership m ON m.fleet_id = t.fleet_id AND m.account_id = t.account_id
        WHERE t.token_hash = wanted AND t.revoked_at IS NULL AND t.expires_at > now()';
DROP FUNCTION job_device_owner(bytea);
CREATE FUNCTION job_device_owner(wanted bytea)
    RETURNS TABLE (fleet_id integer, job_id bigint, account_id integer, login text, display_name text, roles text[], fleet text,
                   measures text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT d.fleet_id, d.job_id, d.account_id, a.login, a.display_name, m.roles, f.name, f.measures
        FROM job_device d JOIN account a USING (account_id) JOIN fleet f USING (fleet_id)
        JOIN membership m ON m.fleet_id = d.fleet_id AND m.account_id = d.account_id
        WHERE d.token_hash = wanted AND d.expires_at > now()';
CREATE FUNCTION invitation_of(wanted bytea)
    RETURNS TABLE (fleet_id integer, invitation_id bigint, fleet text, name text, roles text[], made_by text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT i.fleet_id, i.invitation_id, f.name, i.name, i.roles, i.made_by FROM invitation i JOIN fleet f USING (fleet_id)
        WHERE i.token_hash = wanted AND i.ended_at IS NULL AND i.expires_at > now()';
CREATE FUNCTION password_link_of(wanted bytea) RETURNS TABLE (fleet_id integer, account_id integer, login text, made_by text)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT l.fleet_id, l.account_id, a.login, l.made_by FROM password_link l JOIN account a USING (account_id)
        WHERE l.token_hash = wanted AND l.used_at IS NULL AND l.expires_at > now()';
-- A new password, or leaving everywhere, ends what acts for a person in every fleet; only from where the person is known.
CREATE FUNCTION end_keys_of(wanted integer) RETURNS integer
    LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE tokens integer; devices integer;
BEGIN
    UPDATE api_token SET revoked_at = now() WHERE account_id = wanted AND revoked_at IS NULL AND expires_at > now();
    GET DIAGNOSTICS tokens = ROW_COUNT;
    UPDATE job_device SET expires_at = now() WHERE account_id = wanted AND expires_at > now();
    GET DIAGNOSTICS devices = ROW_COUNT;
    RETURN tokens + devices;
END $$;

-- Every function that acts as its owner finds only our own tables, and only the application may call it.
DO $$
DECLARE f record;
BEGIN
    FOR f IN SELECT p.oid::regprocedure AS signature FROM pg_proc p
             WHERE p.pronamespace = 'public'::regnamespace AND p.prosecdef LOOP
        EXECUTE format('ALTER FUNCTION %s SET search_path = public, pg_temp', f.signature);
        EXECUTE format('REVOKE ALL ON FUNCTION %s FROM PUBLIC', f.signature);
        EXECUTE format('GRANT EXECUTE ON FUNCTION %s TO vornet_app', f.signature);
    END LOOP;
END $$;
