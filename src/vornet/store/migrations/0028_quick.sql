-- Lists of large fleets: who asks is worked out once a question, not once a row.
DO $$
DECLARE p record;
BEGIN
    FOR p IN SELECT tablename, policyname FROM pg_policies
             WHERE schemaname = 'public'
               AND qual = '(fleet_id = (NULLIF(current_setting(''vornet.fleet_id''::text, true), ''''::text))::integer)' LOOP
        EXECUTE format('ALTER POLICY %I ON %I USING (fleet_id = (SELECT nullif(current_setting(''vornet.fleet_id'', true), '''')::integer))',
                       p.policyname, p.tablename);
    END LOOP;
END $$;

-- What the Board shows first is read in its order; drains of the last weeks by their day.
DROP INDEX standing_ranking;
CREATE INDEX standing_ranking ON standing (fleet_id, urgency, ranking, compartment_id);
CREATE INDEX drain_day ON drain (fleet_id, on_day) WHERE superseded_by IS NULL;

-- Only what pg_catalog has stands in it, so that it can be worked into the question that asks for it.
CREATE OR REPLACE FUNCTION plain_letters(given text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE
    AS $$ SELECT pg_catalog.translate(pg_catalog.replace(pg_catalog.replace(pg_catalog.replace(pg_catalog.lower(given),
                 'ß', 'ss'), 'æ', 'ae'), 'œ', 'oe'), 'àáâãäåçèéêëìíîïñòóôõöøùúûüýÿšžčřěů', 'aaaaaaceeeeiiiinoooooouuuuyyszcreu') $$;

-- A fleet that is judged afresh in shares, by as many workers as there are: which shares of the run are done.
CREATE TABLE judging (
    fleet_id integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    run      uuid NOT NULL,
    share    smallint NOT NULL,
    families text[] NOT NULL,
    done_at  timestamptz,
    PRIMARY KEY (fleet_id, share)
);
ALTER TABLE judging ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON judging USING (fleet_id = (SELECT nullif(current_setting('vornet.fleet_id', true), '')::integer));
GRANT SELECT, INSERT, UPDATE, DELETE ON judging TO vornet_app;
