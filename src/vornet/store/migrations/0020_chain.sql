-- The audit trail as a chain: each line's hash is over the line and the hash before it, so that a line that was altered, taken out or put
-- between shows. The link is made when the transaction ends, so that two who write do not wait for each other until then.
CREATE TABLE audit_link (
    fleet_id integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    seq      bigint NOT NULL,
    audit_id bigint NOT NULL,
    hash     bytea NOT NULL,
    PRIMARY KEY (fleet_id, seq),
    UNIQUE (fleet_id, audit_id)
);
ALTER TABLE audit_link ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON audit_link USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT ON audit_link TO vornet_app;

-- a line as the hash sees it: the same text wherever it is worked
CREATE FUNCTION audit_text(line audit) RETURNS text LANGUAGE sql IMMUTABLE SET search_path = public, pg_temp
    AS $$ SELECT jsonb_build_array(line.fleet_id, line.audit_id, (extract(epoch FROM line.at) * 1000000)::bigint, line.who, line.what,
                                   line.about, line.detail, line.account_id)::text $$;
CREATE FUNCTION audit_chain(line audit) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE last record;
BEGIN
    PERFORM pg_advisory_xact_lock(72021, line.fleet_id);
    SELECT seq, hash INTO last FROM audit_link WHERE fleet_id = line.fleet_id ORDER BY seq DESC LIMIT 1;
    INSERT INTO audit_link (fleet_id, seq, audit_id, hash)
    VALUES (line.fleet_id, coalesce(last.seq, 0) + 1, line.audit_id,
            sha256(coalesce(last.hash, ''::bytea) || convert_to(audit_text(line), 'UTF8')));
END $$;
REVOKE ALL ON FUNCTION audit_chain(audit) FROM PUBLIC;
CREATE FUNCTION audit_added() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp
    AS 'BEGIN PERFORM audit_chain(NEW); RETURN NULL; END';
REVOKE ALL ON FUNCTION audit_added() FROM PUBLIC;
DO $$
DECLARE line audit;
BEGIN
    FOR line IN SELECT * FROM audit ORDER BY fleet_id, audit_id LOOP
        PERFORM audit_chain(line);
    END LOOP;
END $$;
CREATE CONSTRAINT TRIGGER audit_added AFTER INSERT ON audit DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION audit_added();
