-- :samples  current samples of compartments, fixed width: values as one array
SELECT sample_id, compartment_id, sampled_on, coalesce(meter, 'NaN') AS meter, coalesce(oil_hours, 'NaN') AS oil_hours,
       coalesce(topup_l, 'NaN') AS topup_l, drained, below, above,
       CASE WHEN lab = '' THEN -1 ELSE hashtext(lab)::bigint & 2147483647 END AS lab, values
FROM sample WHERE superseded_by IS NULL AND compartment_id IS NOT NULL

-- :samples_of  the same for some compartments
SELECT sample_id, compartment_id, sampled_on, coalesce(meter, 'NaN') AS meter, coalesce(oil_hours, 'NaN') AS oil_hours,
       coalesce(topup_l, 'NaN') AS topup_l, drained, below, above,
       CASE WHEN lab = '' THEN -1 ELSE hashtext(lab)::bigint & 2147483647 END AS lab, values
FROM sample WHERE superseded_by IS NULL AND compartment_id = ANY(%(compartments)s)

-- :drawn  how bottles were drawn, where something is on record
SELECT s.sample_id, b.conditions ->> 'warmth' AS warmth, (b.conditions ->> 'minutes')::float8 AS minutes
FROM bottle b JOIN sample s ON s.fleet_id = b.fleet_id AND s.sample_no = b.sample_no AND s.compartment_id = b.compartment_id
WHERE b.conditions ?| ARRAY['warmth', 'minutes'] AND s.superseded_by IS NULL

-- :drains  fixed-width columns for core
SELECT drain_id, compartment_id, on_day, meter, coalesce(volume_out_l, 'NaN') AS out_l,
       coalesce(level_missing_l, 'NaN') AS missing_l, coalesce(oil_id, -1) AS oil_id,
       coalesce(magnet_grade::float8, 'NaN') AS magnet, volume_out_kind = 'estimated' AS estimated
FROM drain WHERE superseded_by IS NULL AND (%(compartments)s::bigint[] IS NULL OR compartment_id = ANY(%(compartments)s))

-- :fillings  top-ups and part changes; a part change that only says what was poured took as much out
SELECT compartment_id, on_day, meter, litres AS in_l, 0::float8 AS out_l, false AS part FROM top_up
WHERE superseded_by IS NULL AND (%(compartments)s::bigint[] IS NULL OR compartment_id = ANY(%(compartments)s))
UNION ALL
SELECT compartment_id, on_day, meter, coalesce(litres_in, 0), coalesce(litres_out, litres_in), true FROM event
WHERE superseded_by IS NULL AND kind IN ('part_change', 'repair') AND coalesce(litres_in, litres_out) > 0
  AND (%(compartments)s::bigint[] IS NULL OR compartment_id = ANY(%(compartments)s))

-- :levels  levels read with nothing added
SELECT compartment_id, on_day, meter, level_missing_l AS missing_l FROM level_check
WHERE superseded_by IS NULL AND meter IS NOT NULL AND level_missing_l IS NOT NULL
  AND (%(compartments)s::bigint[] IS NULL OR compartment_id = ANY(%(compartments)s))

-- :overhauls  the last one of each compartment
SELECT compartment_id, on_day, meter FROM event
WHERE superseded_by IS NULL AND kind IN ('overhaul', 'component_exchange') ORDER BY on_day

-- :meter_readings  by meter: unit_id * 2 for a unit's first meter, one more for its second
SELECT unit_id * 2 + meter_no - 1 AS meter_id, on_day, meter FROM meter_reading WHERE superseded_by IS NULL

-- :meters_of  readings and drains by meter, of the units that some compartments belong to
SELECT r.unit_id * 2 + r.meter_no - 1 AS meter_id, r.on_day, r.meter FROM meter_reading r
WHERE r.superseded_by IS NULL
  AND r.unit_id = ANY(ARRAY(SELECT unit_id FROM compartment WHERE compartment_id = ANY(%(compartments)s)))
UNION ALL
SELECT c.unit_id * 2 + c.meter_no - 1, d.on_day, d.meter FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
WHERE d.superseded_by IS NULL AND d.compartment_id = ANY(ARRAY(
    SELECT o.compartment_id FROM compartment o
    WHERE o.unit_id = ANY(ARRAY(SELECT unit_id FROM compartment WHERE compartment_id = ANY(%(compartments)s)))))

-- :sample_counts  samples of each compartment
SELECT compartment_id, count(*) AS n FROM sample WHERE superseded_by IS NULL AND compartment_id IS NOT NULL GROUP BY compartment_id

-- :new_oil_samples  what samples of new oil said, and when
SELECT oil_id, sampled_on, values FROM sample
WHERE compartment_id IS NULL AND oil_id IS NOT NULL AND superseded_by IS NULL ORDER BY sample_id

-- :oil_users  compartments that run, or ran, some oils
SELECT DISTINCT compartment_id FROM drain WHERE superseded_by IS NULL AND oil_id = ANY(%(oils)s)
UNION SELECT compartment_id FROM compartment WHERE oil_id = ANY(%(oils)s)

-- :samples_count  samples of some compartments
SELECT count(*) AS n FROM sample WHERE superseded_by IS NULL AND compartment_id = ANY(%(compartments)s)

-- :estimates  of new oil, as last made
SELECT oil_id, steps, samples FROM new_oil_estimate

-- :put_estimate  new oil told by used samples, dated
INSERT INTO new_oil_estimate (fleet_id, oil_id, steps, samples) VALUES (%(fleet_id)s, %(oil_id)s, %(steps)s, %(samples)s)
ON CONFLICT (fleet_id, oil_id) DO UPDATE SET steps = excluded.steps, samples = excluded.samples, made_at = now()

-- :drop_estimates  of oils that need none any more
DELETE FROM new_oil_estimate WHERE NOT oil_id = ANY(%(oils)s)

-- :put_aside  a history that stopped the judgement
INSERT INTO set_aside (fleet_id, compartment_id, trouble) VALUES (%(fleet_id)s, %(compartment_id)s, %(trouble)s)
ON CONFLICT (fleet_id, compartment_id) DO UPDATE SET trouble = excluded.trouble

-- :take_back  those that were worked through again
DELETE FROM set_aside WHERE (%(only)s::bigint[] IS NULL OR compartment_id = ANY(%(only)s)) AND NOT compartment_id = ANY(%(but)s)

-- :set_aside  by name, longest first
SELECT a.compartment_id, u.name AS unit, c.name AS compartment, a.trouble, a.since FROM set_aside a
JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
ORDER BY a.since, u.name, c.compartment_id

-- :collect_statistics  so that reads after a bulk load are planned for what is there
SELECT collect_statistics()

-- :standing_holds  samples that stay out: open holds and rejected ones
SELECT sample_id, bool_or(settled_at IS NULL) AS waits FROM hold WHERE settled_at IS NULL OR settlement = 'rejected' GROUP BY sample_id

-- :settled_holds  reasons a person has already decided on
SELECT sample_id, reason FROM hold WHERE settled_at IS NOT NULL AND settlement <> 'cleared'

-- :open_holds  what stands held now, to see what changes
SELECT sample_id, reason, detail FROM hold WHERE settled_at IS NULL

-- :numbers_of  sample numbers for sentences about other samples
SELECT sample_id, sample_no FROM sample WHERE sample_id = ANY(%(samples)s)

-- :parcels  samples whose bottles travelled in one parcel
SELECT s.sample_id, b.shipment_id FROM bottle b
JOIN sample s ON s.fleet_id = b.fleet_id AND s.sample_no = b.sample_no AND s.compartment_id = b.compartment_id
WHERE b.shipment_id IS NOT NULL AND s.superseded_by IS NULL

-- :company  compartments whose bottles came with these compartments' lately: in one parcel, or of one unit on one day; and
-- the other sides of their open swaps. Step by step from the few compartments asked for, whatever the planner knows of the rest.
WITH mine AS MATERIALIZED (
    SELECT fleet_id, compartment_id, unit_id FROM compartment WHERE compartment_id = ANY(%(compartments)s)
), parcels AS MATERIALIZED (
    SELECT DISTINCT fleet_id, shipment_id FROM bottle
    WHERE compartment_id = ANY(%(compartments)s) AND shipment_id IS NOT NULL AND drawn_on > %(today)s::date - 120
), days AS MATERIALIZED (
    SELECT DISTINCT m.fleet_id, m.unit_id, s.sampled_on FROM mine m
    CROSS JOIN LATERAL (SELECT sampled_on FROM sample WHERE fleet_id = m.fleet_id AND compartment_id = m.compartment_id
                        AND superseded_by IS NULL AND sampled_on > %(today)s::date - 120 OFFSET 0) s
), mates AS MATERIALIZED (
    SELECT DISTINCT c.fleet_id, c.unit_id, c.compartment_id FROM mine m JOIN compartment c USING (fleet_id, unit_id)
), swaps AS MATERIALIZED (
    SELECT sample_id, (facts -> 'other' ->> 'sample_id')::bigint AS other_id FROM hold
    WHERE settled_at IS NULL AND reason = 'swapped_bottle'
)
SELECT b.compartment_id FROM parcels p JOIN bottle b USING (fleet_id, shipment_id) WHERE b.compartment_id IS NOT NULL
UNION
SELECT a.compartment_id FROM mates a
CROSS JOIN LATERAL (SELECT sampled_on FROM sample WHERE fleet_id = a.fleet_id AND compartment_id = a.compartment_id
                    AND superseded_by IS NULL AND sampled_on > %(today)s::date - 120 OFFSET 0) s
JOIN days d ON d.fleet_id = a.fleet_id AND d.unit_id = a.unit_id AND d.sampled_on = s.sampled_on
UNION
SELECT o.compartment_id FROM swaps w
CROSS JOIN LATERAL (SELECT compartment_id FROM sample WHERE sample_id = w.sample_id OFFSET 0) s
CROSS JOIN LATERAL (SELECT compartment_id FROM sample WHERE sample_id = w.other_id OFFSET 0) o
WHERE s.compartment_id = ANY(%(compartments)s) AND o.compartment_id IS NOT NULL

-- :raise_hold  a new reason, a changed sentence, or one that had been cleared and holds again
INSERT INTO hold (fleet_id, sample_id, reason, detail, facts) VALUES (%(fleet_id)s, %(sample_id)s, %(reason)s, %(detail)s, %(facts)s)
ON CONFLICT (fleet_id, sample_id, reason) DO UPDATE
SET detail = excluded.detail, facts = excluded.facts, settled_at = NULL, settled_by = NULL, settlement = NULL
WHERE hold.settlement IS NULL OR hold.settlement = 'cleared'

-- :clear_hold  the reason has gone: new facts came in
UPDATE hold SET settled_at = now(), settled_by = 'Vornet', settlement = 'cleared', why = 'no longer holds'
WHERE sample_id = %(sample_id)s AND reason = %(reason)s AND settled_at IS NULL

-- :evaluation_staging  what is judged goes through here
CREATE TEMP TABLE IF NOT EXISTS staging_evaluation (
    sample_id bigint, proposed smallint, limit_set_id bigint, oil_hours double precision, evidence jsonb, hypotheses jsonb, sampled_on date
) ON COMMIT DELETE ROWS

-- :copy_evaluation  COPY does not write into tables with row-level security, so into staging first
COPY staging_evaluation (sample_id, proposed, limit_set_id, oil_hours, evidence, hypotheses, sampled_on) FROM STDIN

-- :forget_evaluations  what is about to be written anew
DELETE FROM evaluation WHERE sample_id = ANY(%(samples)s)

-- :empty_staging  the next batch of the same transaction begins afresh
TRUNCATE staging_evaluation

-- :insert_evaluations  from staging into the fleet's own rows; of two who judge the same at a time the later one's stand
INSERT INTO evaluation (fleet_id, sample_id, proposed, limit_set_id, oil_hours, evidence, hypotheses, sampled_on)
SELECT %(fleet_id)s, sample_id, proposed, limit_set_id, oil_hours, evidence, hypotheses, sampled_on FROM staging_evaluation ORDER BY sample_id
ON CONFLICT (fleet_id, sample_id) DO UPDATE SET proposed = excluded.proposed, limit_set_id = excluded.limit_set_id,
    oil_hours = excluded.oil_hours, evidence = excluded.evidence, hypotheses = excluded.hypotheses, sampled_on = excluded.sampled_on

-- :known_evaluations  of these samples, to write only what changed
SELECT sample_id, proposed, limit_set_id, coalesce(oil_hours, 'NaN') AS oil_hours
FROM unnest(%(samples)s::bigint[]) AS wanted (sample_id) JOIN evaluation USING (sample_id)

-- :digests  what parts of the fleet were last evaluated from
SELECT part, digest FROM evaluated

-- :logs  the newest of what is poured and read
SELECT (SELECT max(drain_id) FROM drain) AS drain, (SELECT max(top_up_id) FROM top_up) AS top_up

-- :hold_families  groups of families, each in its turn, so that nobody waits in a circle; to the end of the transaction
SELECT pg_advisory_xact_lock(hashtext('judging ' || x.place), hashtext(current_setting('vornet.fleet_id', true)))
FROM (SELECT place FROM unnest(%(places)s::integer[]) place ORDER BY place OFFSET 0) x

-- :families_of  of some compartments
SELECT DISTINCT family FROM compartment WHERE compartment_id = ANY(%(compartments)s)

-- :judged_on  the whole fleet was judged as of a day
UPDATE fleet SET judged_on = %(today)s WHERE fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer

-- :put_digest  what a family was last worked from
INSERT INTO evaluated (fleet_id, part, families, digest) VALUES (%(fleet_id)s, %(part)s, %(families)s, %(digest)s)
ON CONFLICT (fleet_id, part) DO UPDATE SET families = excluded.families, digest = excluded.digest

-- :keep_digests  batches of another size say nothing any more
DELETE FROM evaluated WHERE NOT part = ANY(%(parts)s::text[])

-- :forget_digests  of the screening and of parts with these families
DELETE FROM evaluated WHERE part = '' OR families && %(families)s::text[]

-- :forget_parts  parts with these families, not the screening
DELETE FROM evaluated WHERE part <> '' AND families && %(families)s::text[]

-- :units_in_part  of so many parts of the fleet
SELECT unit_id FROM unit WHERE unit_id %% %(parts)s = %(part)s ORDER BY unit_id

-- :drop_shares  an earlier run is overtaken
DELETE FROM judging

-- :put_share  families that are judged together
INSERT INTO judging (fleet_id, run, share, families) VALUES (%(fleet_id)s, %(run)s, %(share)s, %(families)s)

-- :share  a share of a run that still is to be judged
SELECT families FROM judging WHERE run = %(run)s AND share = %(share)s AND done_at IS NULL

-- :of_families  their compartments
SELECT compartment_id FROM compartment WHERE family = ANY(%(families)s) ORDER BY compartment_id

-- :share_done  how many of the run are left
WITH mine AS (UPDATE judging SET done_at = now() WHERE run = %(run)s AND share = %(share)s RETURNING share)
SELECT count(*) AS n FROM judging WHERE run = %(run)s AND done_at IS NULL AND share NOT IN (SELECT share FROM mine)
  AND EXISTS (SELECT 1 FROM mine)

-- :run_over  that this is the run, and that it is at its end
SELECT 1 FROM judging WHERE run = %(run)s HAVING count(*) > 0 AND bool_and(done_at IS NOT NULL)

-- :put_standing  where a compartment stands, for every list and page
INSERT INTO standing (fleet_id, compartment_id, as_of, meter_day, oil_hours, headroom, headroom_is_safe, headroom_open,
    running_safe, limiting, interval_meter, to_due, due_meter, due_day, due_driver, rate_per_day, last_sample_id,
    last_proposed, last_sampled_on, held, open_faults, outcome, proposed_meter, reason, ranking, decision, slopes, headroom_as_is,
    open_measurands, charges, life, life_used, early_l, overrun, held_word, held_back,
    reckoning, held_since, act_now, act_proposed)
VALUES (%(fleet_id)s, %(compartment_id)s, %(as_of)s, %(meter_day)s, %(oil_hours)s, %(headroom)s, %(headroom_is_safe)s,
    %(headroom_open)s, %(running_safe)s, %(limiting)s, %(interval_meter)s, %(to_due)s, %(due_meter)s, %(due_day)s,
    %(due_driver)s, %(rate_per_day)s, %(last_sample_id)s, %(last_proposed)s, %(last_sampled_on)s, %(held)s,
    %(open_faults)s, %(outcome)s, %(proposed_meter)s, %(reason)s, %(ranking)s, %(decision)s, %(slopes)s,
    %(headroom_as_is)s, %(open_measurands)s, %(charges)s, %(life)s, %(life_used)s, %(early_l)s, %(overrun)s, %(held_word)s,
    %(held_back)s, %(reckoning)s, %(held_since)s,
    %(act_now)s, %(act_proposed)s)
ON CONFLICT (fleet_id, compartment_id) DO UPDATE SET
    as_of = excluded.as_of, meter_day = excluded.meter_day, oil_hours = excluded.oil_hours,
    headroom = excluded.headroom, headroom_is_safe = excluded.headroom_is_safe, headroom_open = excluded.headroom_open,
    running_safe = excluded.running_safe, limiting = excluded.limiting, interval_meter = excluded.interval_meter,
    to_due = excluded.to_due, due_meter = excluded.due_meter, due_day = excluded.due_day,
    due_driver = excluded.due_driver, rate_per_day = excluded.rate_per_day, last_sample_id = excluded.last_sample_id,
    last_proposed = excluded.last_proposed, last_sampled_on = excluded.last_sampled_on, held = excluded.held,
    open_faults = excluded.open_faults, outcome = excluded.outcome, proposed_meter = excluded.proposed_meter,
    reason = excluded.reason, ranking = excluded.ranking, decision = excluded.decision, slopes = excluded.slopes,
    headroom_as_is = excluded.headroom_as_is, open_measurands = excluded.open_measurands, charges = excluded.charges,
    life = excluded.life, life_used = excluded.life_used, early_l = excluded.early_l, overrun = excluded.overrun,
    held_word = excluded.held_word, held_back = excluded.held_back,
    reckoning = excluded.reckoning, held_since = excluded.held_since,
    act_now = excluded.act_now, act_proposed = excluded.act_proposed

-- :rank  what the Board puts first, by the last verdict that stands: 0 Stop, 1 Act that nobody signed or took in hand, 2 past safe life,
-- 3 overdue, 4 held, 5 the rest
UPDATE standing s SET urgency = n.urgency
FROM (SELECT x.compartment_id, CASE
          WHEN coalesce(v.verdict, x.last_proposed) = 3 THEN 0
          WHEN coalesce(v.verdict, x.last_proposed) = 2 AND (v.verdict IS NULL OR NOT EXISTS (
              SELECT 1 FROM action a WHERE a.fleet_id = x.fleet_id AND a.compartment_id = x.compartment_id
                AND (a.closed_at IS NULL OR a.sample_id = x.last_sample_id))) THEN 1
          WHEN (CASE WHEN jsonb_array_length(x.open_faults) > 0 THEN least(x.headroom, x.headroom_as_is) ELSE x.headroom END) < 0 THEN 2
          WHEN x.to_due < 0 OR x.due_day < x.as_of AND x.due_driver = 'calendar' THEN 3
          WHEN x.held > 0 THEN 4
          ELSE 5 END AS urgency
      FROM standing x LEFT JOIN verdict v ON v.fleet_id = x.fleet_id AND v.sample_id = x.last_sample_id AND v.superseded_by IS NULL
      WHERE %(only)s::bigint[] IS NULL OR x.compartment_id = ANY(%(only)s)) n
WHERE s.compartment_id = n.compartment_id AND s.urgency <> n.urgency

-- :latest_baselines  of some families, the last ones up to a day
SELECT DISTINCT ON (family, measurand) family, measurand, n, mean, sd FROM baseline
WHERE family = ANY(%(families)s) AND as_of <= %(today)s ORDER BY family, measurand, as_of DESC

-- :put_baseline  family mean and spread as of a day
INSERT INTO baseline (fleet_id, family, measurand, as_of, n, mean, sd)
VALUES (%(fleet_id)s, %(family)s, %(measurand)s, %(as_of)s, %(n)s, %(mean)s, %(sd)s)
ON CONFLICT (fleet_id, family, measurand, as_of) DO UPDATE SET n = excluded.n, mean = excluded.mean, sd = excluded.sd

-- :family_mates  all compartments of the families of some compartments
SELECT compartment_id FROM compartment
WHERE family IN (SELECT family FROM compartment WHERE compartment_id = ANY(%(compartments)s))

-- :judgements  what export judgements needs, one row a sample
SELECT s.sample_id, s.sample_no, s.lab, u.name AS unit, c.name AS compartment, s.sampled_on, e.proposed, e.evidence, e.hypotheses,
       v.verdict AS signed, v.signed_by, v.comment, v.cause AS signed_cause, v.reason AS signed_reason
FROM sample s
JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN evaluation e ON e.fleet_id = s.fleet_id AND e.sample_id = s.sample_id
LEFT JOIN verdict v ON v.fleet_id = s.fleet_id AND v.sample_id = s.sample_id AND v.superseded_by IS NULL
WHERE s.superseded_by IS NULL ORDER BY s.sampled_on, s.sample_id

-- :decisions  what export intervals needs, one row a compartment; names are laid beside them afterwards, so that no join has to be guessed at
SELECT compartment_id, outcome, proposed_meter, reason, oil_hours, headroom, headroom_as_is, headroom_now(urgency, open_faults, headroom, headroom_as_is) AS headroom_now, decision
FROM standing

-- :compartment_names  laid beside decisions afterwards: joined, the read grew with the square of the fleet
SELECT compartment_id, unit_id, name, counts FROM compartment

-- :unit_names  laid beside decisions afterwards
SELECT unit_id, name FROM unit

-- :looks  what was seen at drains
SELECT compartment_id, on_day, air_filter, extra FROM drain WHERE superseded_by IS NULL
  AND (air_filter IS NOT NULL OR extra ?| ARRAY['oil_looks', 'filter_looks', 'strainer_look', 'as_found', 'air_action'])
  AND (%(only)s::bigint[] IS NULL OR compartment_id = ANY(%(only)s))

-- :repairs  what may make silicon rise by itself
SELECT compartment_id, on_day FROM event WHERE superseded_by IS NULL AND kind IN ('repair', 'overhaul', 'component_exchange')
  AND (%(only)s::bigint[] IS NULL OR compartment_id = ANY(%(only)s))

-- :noticed  symptoms of a compartment, or of all of its unit where none is named; coolant made up is every engine's
SELECT c.compartment_id, n.on_day, n.kind, n.what FROM observation n JOIN compartment c USING (fleet_id, unit_id)
WHERE n.superseded_by IS NULL AND (n.kind = 'coolant' AND c.kind = 'engine'
       OR n.kind = 'symptom' AND (n.compartment_id IS NULL OR n.compartment_id = c.compartment_id))
  AND (%(only)s::bigint[] IS NULL OR c.compartment_id = ANY(%(only)s))

-- :items_read  what service items were read, to the compartment they are of, else to every engine of the unit
SELECT c.compartment_id, r.on_day, i.facts -> 'reading' ->> 'type' AS type, r.reading FROM service_record r
JOIN service_item i USING (fleet_id, item_id) JOIN compartment c ON c.fleet_id = i.fleet_id AND c.unit_id = i.unit_id
WHERE r.superseded_by IS NULL AND i.facts -> 'reading' ->> 'type' IN ('coolant_level', 'plug_look', 'hose_look', 'air_filter')
  AND (i.compartment_id = c.compartment_id OR i.compartment_id IS NULL AND c.kind = 'engine')
  AND (%(only)s::bigint[] IS NULL OR c.compartment_id = ANY(%(only)s))

