-- Signing in: a second factor, a provider's sign-in, sessions that end when nobody uses them, attempts that take longer each time; and
-- accounts and sessions that only their own person, or the fleet they are open in, can see.
ALTER TABLE account ADD COLUMN totp text NOT NULL DEFAULT '', -- sealed
    ADD COLUMN totp_step bigint NOT NULL DEFAULT 0;            -- a code is good once
ALTER TABLE session ADD COLUMN used_at timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN stage text NOT NULL DEFAULT 'in' CHECK (stage IN ('in', 'code')), -- code: the password fitted, the second factor is awaited
    ADD COLUMN second boolean NOT NULL DEFAULT false;
ALTER TABLE fleet ADD COLUMN second_factor text[] NOT NULL DEFAULT '{}'
    CHECK (second_factor <@ ARRAY['technician', 'planner', 'analyst', 'manager', 'admin', 'viewer']);
ALTER TABLE audit ADD COLUMN account_id integer DEFAULT nullif(current_setting('vornet.account_id', true), '')::integer;

CREATE TABLE recovery_code (
    account_id integer NOT NULL REFERENCES account ON DELETE CASCADE,
    code_hash  bytea NOT NULL,
    used_at    timestamptz,
    PRIMARY KEY (account_id, code_hash)
);
-- whom a provider of sign-ins means by a subject
CREATE TABLE identity (
    issuer     text NOT NULL,
    subject    text NOT NULL,
    account_id integer NOT NULL REFERENCES account ON DELETE CASCADE,
    made_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (issuer, subject),
    UNIQUE (account_id, issuer)
);
-- where somebody signed in from: such a place is not kept waiting by guesses from elsewhere
CREATE TABLE known_address (
    account_id integer NOT NULL REFERENCES account ON DELETE CASCADE,
    address    text NOT NULL,
    last_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (account_id, address)
);
DROP INDEX sign_in_failure_recent, sign_in_failure_address;
CREATE INDEX sign_in_failure_recent ON sign_in_failure (login, address, at);

-- own: whom the request is of (vornet.account_id); here: whoever is in the fleet of the transaction
ALTER TABLE account ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_or_here ON account USING (account_id = nullif(current_setting('vornet.account_id', true), '')::integer
    OR EXISTS (SELECT 1 FROM membership m WHERE m.account_id = account.account_id))
    WITH CHECK (account_id = nullif(current_setting('vornet.account_id', true), '')::integer);
ALTER TABLE session ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_or_here ON session USING (account_id = nullif(current_setting('vornet.account_id', true), '')::integer
    OR fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer)
    WITH CHECK (account_id = nullif(current_setting('vornet.account_id', true), '')::integer);
ALTER TABLE recovery_code ENABLE ROW LEVEL SECURITY;
CREATE POLICY own ON recovery_code USING (account_id = nullif(current_setting('vornet.account_id', true), '')::integer);
ALTER TABLE identity ENABLE ROW LEVEL SECURITY;
CREATE POLICY own ON identity USING (account_id = nullif(current_setting('vornet.account_id', true), '')::integer);
ALTER TABLE known_address ENABLE ROW LEVEL SECURITY;
CREATE POLICY own ON known_address USING (account_id = nullif(current_setting('vornet.account_id', true), '')::integer);
REVOKE ALL ON account, session, sign_in_failure, first_run FROM vornet_app;
GRANT SELECT (account_id, login, display_name, created_at, totp_step), UPDATE (display_name, password_hash, totp, totp_step) ON account TO vornet_app;
GRANT SELECT, INSERT, DELETE, UPDATE (fleet_id, second) ON session TO vornet_app;
GRANT SELECT, INSERT, DELETE, UPDATE (used_at) ON recovery_code TO vornet_app;
GRANT SELECT, INSERT, DELETE ON identity TO vornet_app;
GRANT SELECT, INSERT, UPDATE (last_at) ON known_address TO vornet_app;
GRANT UPDATE (second_factor) ON fleet TO vornet_app;

-- The questions that are asked before anybody is known, each for one row and no more.
CREATE FUNCTION account_named(wanted text) RETURNS integer LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT account_id FROM account WHERE login = wanted';
CREATE FUNCTION account_secrets(wanted integer) RETURNS TABLE (login text, display_name text, password_hash text, totp text, totp_step bigint)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT login, display_name, password_hash, totp, totp_step FROM account WHERE account_id = wanted';
CREATE FUNCTION account_make(wanted text, name text, hash text) RETURNS integer LANGUAGE sql SECURITY DEFINER SET search_path = public, pg_temp
    AS 'INSERT INTO account (login, display_name, password_hash) VALUES (wanted, name, hash) ON CONFLICT (login) DO NOTHING RETURNING account_id';
CREATE FUNCTION account_known() RETURNS boolean LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT EXISTS (SELECT 1 FROM account)';
CREATE FUNCTION identity_of(wanted_issuer text, wanted_subject text) RETURNS integer LANGUAGE sql STABLE SECURITY DEFINER
    SET search_path = public, pg_temp
    AS 'SELECT account_id FROM identity WHERE issuer = wanted_issuer AND subject = wanted_subject';
-- a session in use; noted at most once a minute
CREATE FUNCTION session_of(wanted bytea, idle interval)
    RETURNS TABLE (account_id integer, fleet_id integer, csrf text, stage text, second boolean, login text, display_name text, has_second boolean)
    LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
BEGIN
    UPDATE session s SET used_at = now() WHERE s.token_hash = wanted AND s.expires_at > now() AND s.used_at > now() - idle
        AND s.used_at < now() - interval '1 minute';
    RETURN QUERY SELECT s.account_id, s.fleet_id, s.csrf, s.stage, s.second, a.login, a.display_name, a.totp <> ''
        FROM session s JOIN account a ON a.account_id = s.account_id
        WHERE s.token_hash = wanted AND s.expires_at > now() AND s.used_at > now() - idle;
END $$;
CREATE FUNCTION session_end(wanted bytea, idle interval) RETURNS void LANGUAGE sql SECURITY DEFINER SET search_path = public, pg_temp
    AS 'DELETE FROM session WHERE token_hash = wanted OR expires_at < now() OR used_at < now() - idle';
-- One attempt: how many failed from there since the last that fitted, how long ago the last was (s), how many from anywhere within the
-- hour, whether the place is known. Noted as failed before it is tried, so that many at once are as many; taken back when it fits.
CREATE FUNCTION attempt_begin(wanted text, place text, free integer, longest integer, most integer)
    RETURNS TABLE (wait double precision) LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE failed integer; last timestamptz; anywhere integer; known boolean; left_s double precision;
BEGIN
    PERFORM pg_advisory_xact_lock(hashtextextended(wanted || ' ' || place, 7));
    SELECT count(*), max(f.at) INTO failed, last FROM sign_in_failure f
        WHERE f.login = wanted AND f.address = place AND f.at > now() - interval '1 day';
    left_s := CASE WHEN failed < free THEN 0
        ELSE least(longest, power(2, least(failed - free, 20))) - extract(epoch FROM clock_timestamp() - last) END;
    IF left_s <= 0 THEN
        SELECT count(*) INTO anywhere FROM sign_in_failure f WHERE f.login = wanted AND f.at > now() - interval '1 hour';
        IF anywhere >= most THEN
            SELECT EXISTS (SELECT 1 FROM known_address k JOIN account a USING (account_id)
                WHERE a.login = split_part(wanted, ' ', 1) AND k.address = place AND k.last_at > now() - interval '90 days') INTO known;
            IF NOT known THEN left_s := longest; END IF;
        END IF;
    END IF;
    IF left_s <= 0 THEN
        INSERT INTO sign_in_failure (login, address, at) VALUES (wanted, place, clock_timestamp());
    END IF;
    RETURN QUERY SELECT greatest(left_s, 0);
END $$;
CREATE FUNCTION attempt_fits(wanted text, place text) RETURNS void LANGUAGE sql SECURITY DEFINER SET search_path = public, pg_temp
    AS 'DELETE FROM sign_in_failure WHERE login = wanted AND address = place OR at < now() - interval ''2 days''';
CREATE FUNCTION first_run_put(hash bytea) RETURNS void LANGUAGE sql SECURITY DEFINER SET search_path = public, pg_temp
    AS 'INSERT INTO first_run (code_hash) VALUES (hash)';
CREATE FUNCTION first_run_fits(hash bytea) RETURNS boolean LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT EXISTS (SELECT 1 FROM first_run WHERE code_hash = hash AND made_at > now() - interval ''1 day'')';
CREATE FUNCTION first_run_over() RETURNS void LANGUAGE sql SECURITY DEFINER SET search_path = public, pg_temp AS 'DELETE FROM first_run';
-- a link sets the password of whom it is for, and of nobody else
CREATE FUNCTION password_link_use(wanted bytea, hash text) RETURNS integer LANGUAGE plpgsql SECURITY DEFINER
    SET search_path = public, pg_temp AS $$
DECLARE whose integer;
BEGIN
    UPDATE password_link SET used_at = now() WHERE token_hash = wanted AND used_at IS NULL AND expires_at > now()
        RETURNING password_link.account_id INTO whose;
    IF whose IS NOT NULL THEN
        UPDATE account SET password_hash = hash WHERE account_id = whose;
    END IF;
    RETURN whose;
END $$;
-- an admin takes a lost second factor off somebody who is in the admin's fleet and in no other
CREATE FUNCTION second_factor_off(wanted integer, in_fleet integer) RETURNS boolean LANGUAGE plpgsql SECURITY DEFINER
    SET search_path = public, pg_temp AS $$
BEGIN
    IF (SELECT array_agg(fleet_id) FROM membership WHERE account_id = wanted) IS DISTINCT FROM ARRAY[in_fleet] THEN
        RETURN false;
    END IF;
    UPDATE account SET totp = '', totp_step = 0 WHERE account_id = wanted;
    DELETE FROM recovery_code WHERE account_id = wanted;
    DELETE FROM session WHERE account_id = wanted;
    RETURN true;
END $$;

DROP FUNCTION fleets_of(integer);
CREATE FUNCTION fleets_of(wanted integer) RETURNS TABLE (fleet_id integer, name text, roles text[], measures text, second_factor text[])
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT f.fleet_id, f.name, m.roles, f.measures, f.second_factor FROM membership m JOIN fleet f USING (fleet_id)
        WHERE m.account_id = wanted ORDER BY f.fleet_id';
DROP FUNCTION token_owner(bytea);
CREATE FUNCTION token_owner(wanted bytea)
    RETURNS TABLE (fleet_id integer, token_id bigint, account_id integer, scopes text[], login text, display_name text,
                   roles text[], fleet text, measures text, owes_second boolean)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT t.fleet_id, t.token_id, t.account_id, t.scopes, a.login, a.display_name, m.roles, f.name, f.measures,
               f.second_factor && m.roles AND a.totp = ''''
        FROM api_token t JOIN account a USING (account_id) JOIN fleet f USING (fleet_id)
        JOIN membership m ON m.fleet_id = t.fleet_id AND m.account_id = t.account_id
        WHERE t.token_hash = wanted AND t.revoked_at IS NULL AND t.expires_at > now()';

-- what is counted, ended or renamed may be written; what says whose it is may not
REVOKE UPDATE ON membership, api_token, job_device FROM vornet_app;
GRANT UPDATE (roles) ON membership TO vornet_app;
GRANT UPDATE (used_at, revoked_at) ON api_token TO vornet_app;
GRANT UPDATE (expires_at) ON job_device TO vornet_app;

DO $$
DECLARE f record;
BEGIN
    FOR f IN SELECT p.oid::regprocedure AS signature, p.proname FROM pg_proc p
             WHERE p.pronamespace = 'public'::regnamespace AND p.prosecdef LOOP
        EXECUTE format('ALTER FUNCTION %s SET search_path = public, pg_temp', f.signature);
        EXECUTE format('REVOKE ALL ON FUNCTION %s FROM PUBLIC', f.signature);
        IF f.proname <> 'fleet_drop' THEN
            EXECUTE format('GRANT EXECUTE ON FUNCTION %s TO vornet_app', f.signature);
        END IF;
    END LOOP;
END $$;
