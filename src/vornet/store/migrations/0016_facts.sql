-- Evidence, holds, guards, reasons and faults are kept as facts (kind, numbers, keys) and said when they are read. What was kept as
-- English so far stays as it was written, until the next evaluation puts a fact in its place.
CREATE FUNCTION as_written(text text) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT jsonb_build_object('kind', 'written', 'keys', jsonb_build_object('text', text))
$$;
CREATE FUNCTION all_as_written(texts text[]) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT coalesce(jsonb_agg(as_written(t) ORDER BY n), '[]') FROM unnest(texts) WITH ORDINALITY AS u (t, n)
$$;
CREATE FUNCTION hypotheses_as_written(hypotheses jsonb) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT coalesce(jsonb_agg(h || jsonb_build_object('evidence',
               (SELECT coalesce(jsonb_agg(CASE WHEN starts_with(e, 'Against: ') THEN
                           jsonb_build_object('kind', 'against', 'parts', jsonb_build_array(as_written(substr(e, 10))))
                       ELSE as_written(e) END ORDER BY m), '[]')
                FROM jsonb_array_elements_text(h -> 'evidence') WITH ORDINALITY AS v (e, m))) ORDER BY n), '[]')
    FROM jsonb_array_elements(hypotheses) WITH ORDINALITY AS u (h, n)
$$;
CREATE FUNCTION decision_as_written(decision jsonb) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT decision || jsonb_build_object(
        'reason', as_written(decision ->> 'reason'),
        'open_faults', all_as_written(ARRAY(SELECT jsonb_array_elements_text(coalesce(decision -> 'open_faults', '[]')))),
        'guards', (SELECT coalesce(jsonb_agg(g - 'text' || jsonb_build_object('fact', as_written(g ->> 'text'),
                       'lifts', CASE WHEN g ->> 'lifts' <> '' THEN as_written(g ->> 'lifts') END) ORDER BY n), '[]')
                   FROM jsonb_array_elements(coalesce(decision -> 'guards', '[]')) WITH ORDINALITY AS u (g, n)),
        'next_sample', CASE WHEN jsonb_typeof(decision -> 'next_sample') = 'object' THEN
                           (decision -> 'next_sample') - 'text' || jsonb_build_object('fact', as_written(decision #>> '{next_sample,text}')) END)
$$;

ALTER TABLE evaluation ALTER COLUMN evidence DROP DEFAULT, ALTER COLUMN evidence TYPE jsonb USING all_as_written(evidence),
    ALTER COLUMN evidence SET DEFAULT '[]', ALTER COLUMN hypotheses TYPE jsonb USING hypotheses_as_written(hypotheses);
ALTER TABLE verdict ALTER COLUMN evidence DROP DEFAULT, ALTER COLUMN evidence TYPE jsonb USING all_as_written(evidence),
    ALTER COLUMN evidence SET DEFAULT '[]', ALTER COLUMN hypotheses TYPE jsonb USING hypotheses_as_written(hypotheses);
ALTER TABLE hold ALTER COLUMN detail TYPE jsonb USING as_written(detail);
DROP FUNCTION headroom_now(smallint, text[], double precision, double precision);
ALTER TABLE standing ALTER COLUMN open_faults DROP DEFAULT, ALTER COLUMN open_faults TYPE jsonb USING all_as_written(open_faults),
    ALTER COLUMN open_faults SET DEFAULT '[]', ALTER COLUMN reason TYPE jsonb USING as_written(reason),
    ALTER COLUMN decision TYPE jsonb USING decision_as_written(decision);
UPDATE drain_interval SET evidence = decision_as_written(evidence) WHERE evidence ? 'guards';

DROP FUNCTION decision_as_written(jsonb);
DROP FUNCTION hypotheses_as_written(jsonb);
DROP FUNCTION all_as_written(text[]);
DROP FUNCTION as_written(text);

-- Headroom that holds today: as it is with a fault open, none while a Stop stands.
CREATE FUNCTION headroom_now(urgency smallint, open_faults jsonb, headroom double precision, headroom_as_is double precision)
RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT CASE WHEN urgency = 0 THEN least(0, headroom, headroom_as_is)
                WHEN jsonb_array_length(open_faults) > 0 THEN least(headroom, headroom_as_is)
                ELSE headroom END
$$;
GRANT EXECUTE ON FUNCTION headroom_now(smallint, jsonb, double precision, double precision) TO vornet_app;

-- What was touched and never settled (its writer was killed in between) is found by its age.
ALTER TABLE touched ADD COLUMN at timestamptz NOT NULL DEFAULT now();
CREATE FUNCTION fleets_left_touched(after_s double precision) RETURNS TABLE (fleet_id integer)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT DISTINCT fleet_id FROM touched WHERE at < now() - make_interval(secs => after_s) ORDER BY 1';
REVOKE ALL ON FUNCTION fleets_left_touched(double precision) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION fleets_left_touched(double precision) TO vornet_app;

-- whatever was judged is judged once more, so that facts take the place of what was written
DELETE FROM evaluated;
INSERT INTO touched (fleet_id, what, id) SELECT DISTINCT fleet_id, 'compartment', compartment_id FROM standing;
