-- :rows  the Board: who needs someone first
SELECT c.compartment_id, c.unit_id, u.name AS unit, c.name AS compartment, c.kind, d.name AS depot, c.counts AS meter_unit, s.as_of, s.oil_hours,
       s.headroom, s.headroom_is_safe, s.headroom_open, s.running_safe, s.limiting, s.interval_meter, s.to_due, s.due_meter,
       s.due_day, s.due_driver, s.last_proposed, s.last_sampled_on, s.held, s.open_faults, s.outcome, s.proposed_meter,
       s.reason, s.ranking, s.headroom_as_is, s.urgency, s.last_sample_id, s.held_word, s.held_back,
       (SELECT t.progress ->> 'word' FROM trial t WHERE t.fleet_id = s.fleet_id AND t.compartment_id = s.compartment_id
          AND t.state = 'running') AS trial_word,
       headroom_now(s.urgency, s.open_faults, s.headroom, s.headroom_as_is) AS headroom_now,
       (SELECT e.hypotheses -> 0 ->> 'key' FROM evaluation e WHERE e.fleet_id = s.fleet_id AND e.sample_id = s.last_sample_id
          AND e.hypotheses -> 0 ->> 'strength' <> 'possible') AS cause,
       (SELECT v.verdict FROM verdict v WHERE v.fleet_id = s.fleet_id AND v.sample_id = s.last_sample_id
                             AND v.superseded_by IS NULL) AS last_signed
FROM standing s JOIN compartment c USING (fleet_id, compartment_id)
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
WHERE (%(show)s = 'all' AND u.state = 'in_service'
    OR %(show)s = 'laid_up' AND u.state = 'laid_up'
    OR %(show)s = 'overdue' AND s.to_due < 0
    OR %(show)s = 'faults' AND (jsonb_array_length(s.open_faults) > 0 OR s.last_proposed >= 2)
    OR %(show)s = 'past' AND headroom_now(s.urgency, s.open_faults, s.headroom, s.headroom_as_is) < 0
    OR %(show)s = 'held' AND s.held > 0
    OR %(show)s = 'back' AND s.held_word = 'back'
    OR %(show)s = 'unsigned' AND EXISTS (
        SELECT 1 FROM sample w JOIN evaluation e ON e.fleet_id = w.fleet_id AND e.sample_id = w.sample_id
        WHERE w.fleet_id = s.fleet_id AND w.compartment_id = s.compartment_id AND w.superseded_by IS NULL AND e.sampled_on > %(since)s
          AND NOT EXISTS (SELECT 1 FROM verdict v WHERE v.fleet_id = e.fleet_id AND v.sample_id = e.sample_id AND v.superseded_by IS NULL)
          AND NOT EXISTS (SELECT 1 FROM hold h WHERE h.fleet_id = e.fleet_id AND h.sample_id = e.sample_id
                          AND (h.settled_at IS NULL OR h.settlement = 'rejected')))
    OR %(show)s = s.outcome)
  AND (u.state = 'in_service' OR %(show)s = 'laid_up' AND u.state = 'laid_up')
  AND (%(depot)s = '' OR d.name = %(depot)s)
  AND (%(q)s = '' OR u.name || ' ' || c.name ILIKE %(like)s)
ORDER BY s.urgency, s.ranking, c.compartment_id
LIMIT %(limit)s OFFSET %(offset)s

-- :rows_by_outcome  the planner's desk: most to gain or lose first
WITH picked AS MATERIALIZED (
    SELECT s.fleet_id, s.compartment_id,
           row_number() OVER (ORDER BY array_position(ARRAY['shorten', 'lengthen', 'hold', 'not_enough'], s.outcome),
                              abs(coalesce(s.proposed_meter, 0) / nullif(s.interval_meter, 0) - 1) DESC NULLS LAST, s.compartment_id) AS place
    FROM standing s JOIN compartment c USING (fleet_id, compartment_id)
    JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
    WHERE (%(show)s = 'all' OR %(show)s = s.outcome OR %(show)s = 'back' AND s.held_word = 'back'
        OR %(show)s = 'trial' AND EXISTS (SELECT 1 FROM trial t WHERE t.fleet_id = s.fleet_id AND t.compartment_id = s.compartment_id
                                          AND t.state = 'running'))
      AND u.state = 'in_service'
    ORDER BY place LIMIT %(limit)s OFFSET %(offset)s)
SELECT c.compartment_id, u.name AS unit, c.name AS compartment, c.kind, d.name AS depot, c.counts AS meter_unit, s.oil_hours,
       s.interval_meter, s.outcome, s.proposed_meter, s.reason, s.limiting, s.decision -> 'safe' AS safe, s.decision -> 'safe_as_is' AS safe_as_is,
       s.decision -> 'guards' AS guards,
       (SELECT t.progress ->> 'word' FROM trial t WHERE t.fleet_id = s.fleet_id AND t.compartment_id = s.compartment_id
          AND t.state = 'running') AS trial_word, s.decision -> 'next_sample' AS next_sample,
       s.held_word, s.held_back,
       (SELECT jsonb_build_object('by', x.by, 'on', x.on_day, 'why', x.why) FROM declined x WHERE x.fleet_id = s.fleet_id
          AND x.compartment_id = s.compartment_id AND x.outcome = s.outcome AND x.proposed IS NOT DISTINCT FROM s.proposed_meter
          AND x.current IS NOT DISTINCT FROM s.interval_meter
        ORDER BY x.declined_id DESC LIMIT 1) AS declined, s.decision -> 'limiting' AS deciding, s.decision -> 'charges' AS charges, s.decision -> 'schools' AS schools,
       (s.decision -> 'beyond_evidence')::boolean AS beyond_evidence, s.open_faults
FROM picked JOIN standing s USING (fleet_id, compartment_id) JOIN compartment c USING (fleet_id, compartment_id)
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
ORDER BY picked.place

-- :in_oil  the fleet's charges: where most oil life is poured away, or overrun
WITH picked AS MATERIALIZED (
    SELECT s.fleet_id, s.compartment_id, row_number() OVER (ORDER BY CASE %(by)s WHEN 'family' THEN c.family WHEN 'depot' THEN d.name ELSE '' END,
                 CASE %(by)s WHEN 'overrun' THEN s.overrun WHEN 'used' THEN -s.life_used ELSE s.early_l END DESC NULLS LAST, c.compartment_id) AS place
    FROM standing s JOIN compartment c USING (fleet_id, compartment_id)
    JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
    LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
    WHERE u.state = 'in_service' AND (%(family)s = '' OR c.family = %(family)s) AND (%(depot)s = '' OR d.name = %(depot)s)
    ORDER BY place LIMIT %(limit)s OFFSET %(offset)s)
SELECT c.compartment_id, u.name AS unit, c.name AS compartment, c.family, d.name AS depot, c.counts AS meter_unit, s.interval_meter, s.outcome,
       s.proposed_meter, s.charges, s.life, s.life_used, s.early_l, s.overrun, s.rate_per_day, s.open_faults
FROM picked JOIN standing s USING (fleet_id, compartment_id) JOIN compartment c USING (fleet_id, compartment_id)
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
ORDER BY picked.place

-- :in_oil_sums  what it all comes to, by family and depot; prices are put to it by place
SELECT c.family, coalesce(d.name, '') AS depot, CASE WHEN u.name = ANY(%(priced)s) THEN u.name ELSE '' END AS unit, count(*) AS n, sum(s.early_l) AS early_l, sum(s.overrun) AS overrun,
       count(*) FILTER (WHERE s.overrun > 0) AS past, count(*) FILTER (WHERE s.life_used IS NULL) AS unknown, c.counts AS meter_unit,
       sum(CASE WHEN s.outcome = 'lengthen' AND s.rate_per_day > 0 AND jsonb_array_length(s.open_faults) = 0
                THEN s.rate_per_day * 365.25 * (1 / s.interval_meter - 1 / s.proposed_meter) END) AS drains_saved,
       sum(CASE WHEN s.outcome = 'lengthen' AND s.rate_per_day > 0 AND jsonb_array_length(s.open_faults) = 0
                THEN s.rate_per_day * 365.25 * (1 / s.interval_meter - 1 / s.proposed_meter) * coalesce(c.capacity_l, c.system_volume_l) END)
           AS litres_saved,
       sum(CASE WHEN s.outcome = 'lengthen' AND s.rate_per_day > 0 AND jsonb_array_length(s.open_faults) = 0
                THEN s.rate_per_day * 365.25 * (coalesce(s.act_now, 0) / s.interval_meter
                                                - coalesce(s.act_proposed, 0) / s.proposed_meter) END)
           AS past_act_fewer
FROM standing s JOIN compartment c USING (fleet_id, compartment_id)
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
WHERE u.state = 'in_service' AND (%(family)s = '' OR c.family = %(family)s) AND (%(depot)s = '' OR d.name = %(depot)s)
GROUP BY c.family, d.name, 3, c.counts

-- :counts  for the filters
SELECT count(*) FILTER (WHERE in_service) AS all, count(*) FILTER (WHERE laid_up) AS laid_up,
       count(*) FILTER (WHERE in_service AND to_due < 0) AS overdue,
       count(*) FILTER (WHERE in_service AND (jsonb_array_length(open_faults) > 0 OR last_proposed >= 2)) AS faults,
       count(*) FILTER (WHERE in_service AND now_left < 0) AS past,
       count(*) FILTER (WHERE in_service AND urgency = 0) AS stops, count(*) FILTER (WHERE in_service AND (held > 0)) AS held,
       count(*) FILTER (WHERE in_service AND held_word = 'back') AS back, count(*) FILTER (WHERE in_service AND on_trial) AS trial,
       count(*) FILTER (WHERE in_service AND (outcome = 'lengthen')) AS lengthen, count(*) FILTER (WHERE in_service AND (outcome = 'shorten')) AS shorten,
       count(*) FILTER (WHERE in_service AND (outcome = 'hold')) AS hold, count(*) FILTER (WHERE in_service AND (outcome = 'not_enough')) AS not_enough,
       min(as_of) FILTER (WHERE in_service AND NOT left_out) AS as_of
FROM (SELECT EXISTS (SELECT 1 FROM set_aside a WHERE a.fleet_id = s.fleet_id AND a.compartment_id = s.compartment_id) AS left_out, EXISTS (SELECT 1 FROM trial t WHERE t.fleet_id = s.fleet_id AND t.compartment_id = s.compartment_id AND t.state = 'running') AS on_trial,
             s.held_word, s.to_due, s.open_faults, s.last_proposed, s.urgency, s.held, s.outcome, s.as_of, headroom_now(s.urgency, s.open_faults, s.headroom, s.headroom_as_is) AS now_left, u.state = 'in_service' AS in_service, u.state = 'laid_up' AS laid_up
      FROM standing s JOIN compartment c ON c.fleet_id = s.fleet_id AND c.compartment_id = s.compartment_id
      JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id) s

-- :waiting  rows and samples that wait for a person
SELECT (SELECT count(*) FROM held_row WHERE resolved_at IS NULL)
     + (SELECT count(*) FROM hold h JOIN sample s USING (fleet_id, sample_id)
        WHERE h.settled_at IS NULL AND s.superseded_by IS NULL) AS held

-- :depots  names for filters and forms
SELECT name FROM depot ORDER BY name

-- :find  anything by name
SELECT c.compartment_id, c.unit_id, u.name AS unit, c.name AS compartment, u.model,
       headroom_now(s.urgency, s.open_faults, s.headroom, s.headroom_as_is) AS headroom_now, s.headroom_is_safe, s.headroom_open,
       c.counts AS meter_unit, s.due_day, s.to_due, s.oil_hours
FROM compartment c JOIN unit u USING (fleet_id, unit_id) LEFT JOIN standing s USING (fleet_id, compartment_id)
CROSS JOIN LATERAL (SELECT lower(concat_ws(' ', u.name, c.name, u.model, c.family, u.facts ->> 'serial', u.facts ->> 'plate')) AS words
                    OFFSET 0) w
WHERE CASE WHEN octet_length(w.words) = length(w.words) THEN w.words ELSE plain_letters(w.words) END LIKE (SELECT plain_letters(%(like)s))
ORDER BY (plain_letters(u.name || ' ' || c.name) LIKE plain_letters(%(start)s)) DESC, s.urgency, s.ranking NULLS LAST, u.name, c.compartment_id LIMIT %(limit)s

-- :find_sample  a sample by its number, or how it begins
SELECT sample_id, sample_no, compartment_id FROM sample
WHERE (sample_no = %(q)s OR (%(long)s AND lower(sample_no) LIKE lower(%(start)s))) AND superseded_by IS NULL AND compartment_id IS NOT NULL LIMIT 5

-- :compartment  one compartment with where it stands
SELECT c.compartment_id, c.unit_id, c.meter_no, c.unit_id * 2 + c.meter_no - 1 AS meter_id, c.facts, u.state,
       u.estimated_per_day, u.name AS unit, c.name AS compartment, c.kind, c.fuel, c.family, c.system_volume_l,
       c.capacity_l, c.capacity_without_filter_l, c.volume_between_marks_l, c.oil_id, o.name AS oil, o.grade, o.new_values,
       c.cap_meter,
       c.counts AS meter_unit, u.model, u.duty, d.name AS depot, s.as_of, s.meter_day, s.oil_hours, s.headroom, s.headroom_is_safe,
       s.headroom_as_is, s.open_measurands, s.urgency,
       headroom_now(s.urgency, s.open_faults, s.headroom, s.headroom_as_is) AS headroom_now,
       s.headroom_open, s.running_safe, s.limiting, s.interval_meter, s.to_due, s.due_meter, s.due_day, s.due_first, s.due_last, s.due_driver,
       s.rate_per_day, s.last_sample_id, s.last_proposed, s.last_sampled_on, s.held, s.open_faults, s.outcome,
       s.proposed_meter, s.reason, s.decision, s.slopes
FROM compartment c JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
LEFT JOIN oil o ON o.fleet_id = c.fleet_id AND o.oil_id = c.oil_id
LEFT JOIN standing s ON s.fleet_id = c.fleet_id AND s.compartment_id = c.compartment_id
WHERE c.compartment_id = %(compartment_id)s

-- :reckoning  what a compartment's chances are reckoned from; '' where no property answers, NULL where an earlier version left none
SELECT reckoning, held_since FROM standing WHERE compartment_id = %(compartment_id)s

-- :sisters  the other compartments of the unit
SELECT compartment_id, name FROM compartment WHERE unit_id = %(unit_id)s ORDER BY compartment_id

-- :baselines  what is usual for a family, latest
SELECT DISTINCT ON (measurand) measurand, n, mean, sd, as_of FROM baseline
WHERE family = %(family)s ORDER BY measurand, as_of DESC

-- :sample_facts  number, lab and evaluation of one compartment's samples
SELECT s.sample_id, s.sample_no, s.lab, s.import_file_id, s.row_no, s.comment, s.severity, e.proposed, e.evidence, e.hypotheses,
       v.verdict AS signed, v.signed_by, v.signed_at, v.comment AS verdict_comment, v.reason AS verdict_reason, v.cause AS verdict_cause,
       coalesce((SELECT array_agg(h.detail) FROM hold h WHERE h.fleet_id = s.fleet_id AND h.sample_id = s.sample_id
                 AND h.settled_at IS NULL), '{}') AS held,
       (SELECT jsonb_agg(jsonb_build_object('reason', h.reason, 'detail', h.detail, 'why', h.why, 'by', h.settled_by, 'on', h.settled_at::date))
        FROM hold h WHERE h.fleet_id = s.fleet_id AND h.sample_id = s.sample_id AND h.settlement = 'rejected') AS rejected
FROM sample s LEFT JOIN evaluation e ON e.fleet_id = s.fleet_id AND e.sample_id = s.sample_id
LEFT JOIN verdict v ON v.fleet_id = s.fleet_id AND v.sample_id = s.sample_id AND v.superseded_by IS NULL
WHERE s.compartment_id = %(compartment_id)s AND s.superseded_by IS NULL

-- :drains_of  with what was measured
SELECT drain_id, on_day, meter, volume_out_l, volume_out_kind, level_missing_l, volume_in_l, filter_changed, magnet_grade,
       air_filter, sample_no, note, recorded_by, extra
FROM drain WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL ORDER BY on_day DESC

-- :noticed_of  what was noticed at a compartment, or at its unit as a whole, and what its service items read; newest first
SELECT n.observation_id AS row_id, n.on_day, n.meter, n.kind, n.what, n.litres, n.note, n.recorded_by, NULL::text AS type,
       NULL::jsonb AS reading
FROM observation n JOIN compartment c ON c.fleet_id = n.fleet_id AND c.unit_id = n.unit_id AND c.compartment_id = %(compartment_id)s
WHERE n.superseded_by IS NULL
  AND (n.compartment_id = c.compartment_id OR n.compartment_id IS NULL OR n.kind = 'coolant' AND c.kind = 'engine')
UNION ALL
SELECT r.record_id, r.on_day, r.meter, 'item', i.name, NULL, r.note, r.recorded_by, i.facts -> 'reading' ->> 'type', r.reading
FROM service_record r JOIN service_item i USING (fleet_id, item_id)
JOIN compartment c ON c.fleet_id = i.fleet_id AND c.unit_id = i.unit_id AND c.compartment_id = %(compartment_id)s
WHERE r.superseded_by IS NULL AND i.facts -> 'reading' ->> 'type' IN ('coolant_level', 'plug_look', 'hose_look', 'air_filter')
  AND (i.compartment_id = c.compartment_id OR i.compartment_id IS NULL AND c.kind = 'engine')
ORDER BY on_day DESC, row_id DESC

-- :last_sample_values  what the charge that ends was last seen with
SELECT sample_no, sampled_on, values FROM sample
WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL ORDER BY sampled_on DESC, sample_id DESC LIMIT 1

-- :latest_meter  of one of a unit's meters
SELECT on_day, meter FROM (
    SELECT on_day, meter FROM meter_reading
    WHERE unit_id = %(unit_id)s AND meter_no = %(meter_no)s AND superseded_by IS NULL
    UNION ALL SELECT d.on_day, d.meter FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
    WHERE c.unit_id = %(unit_id)s AND c.meter_no = %(meter_no)s AND d.superseded_by IS NULL) m
ORDER BY on_day DESC, meter DESC LIMIT 1

-- :put_drain  the log only grows: a correction is a row more
INSERT INTO drain (fleet_id, compartment_id, on_day, meter, volume_out_l, volume_out_kind, level_missing_l, volume_in_l,
    oil_id, filter_changed, magnet_grade, air_filter, sample_no, note, client_id, extra, recorded_by)
VALUES (%(fleet_id)s, %(compartment_id)s, %(on)s, %(meter)s, %(volume_out_l)s, %(volume_out_kind)s, %(level_missing_l)s,
    %(volume_in_l)s, %(oil_id)s, %(filter_changed)s, %(magnet_grade)s, %(air_filter)s, %(sample_no)s, %(note)s,
    %(client_id)s, %(extra)s, %(by)s)
RETURNING drain_id

-- :drain_by_client  the same form sent twice is one drain
SELECT drain_id FROM drain WHERE client_id = %(client_id)s

-- :drain_on_day  a compartment is drained once a day
SELECT drain_id, meter FROM drain WHERE compartment_id = %(compartment_id)s AND on_day = %(on)s AND superseded_by IS NULL

-- :events_of  repairs, part changes, overhauls, and what the workshop found, of one compartment
SELECT on_day, meter, kind, note FROM event WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL
UNION ALL
SELECT on_day, NULL, 'finding', cause || CASE WHEN note = '' THEN '' ELSE ': ' || note END FROM finding
WHERE compartment_id = %(compartment_id)s ORDER BY 1
