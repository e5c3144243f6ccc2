-- :drain  one that holds, with its place; two who put it right at once take turns
SELECT d.drain_id, d.compartment_id, d.on_day, d.meter, d.volume_out_l, d.volume_out_kind, d.level_missing_l, d.volume_in_l,
       d.filter_changed, d.magnet_grade, d.air_filter, d.extra, d.sample_no, d.recorded_by, d.recorded_at, c.name AS compartment, c.counts AS meter_unit, u.unit_id, u.name AS unit
FROM drain d JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE d.drain_id = %(drain_id)s AND d.superseded_by IS NULL FOR UPDATE OF d

-- :place  a compartment by its unit's name and its own
SELECT c.compartment_id FROM compartment c JOIN unit u USING (fleet_id, unit_id)
WHERE u.name = %(unit)s AND c.name = %(compartment)s

-- :supersede  it stays on record, with why it does not hold; by itself where nothing takes its place
UPDATE drain SET superseded_by = %(by_id)s, superseded_why = %(why)s WHERE drain_id = %(drain_id)s

-- :again  the same drain with what was wrong put right; all else as it was noted
INSERT INTO drain (fleet_id, compartment_id, on_day, meter, volume_out_l, volume_out_kind, level_missing_l, volume_in_l, oil_id,
    filter_changed, magnet_grade, air_filter, sample_no, note, extra, recorded_by)
SELECT d.fleet_id, %(compartment_id)s, %(on_day)s, %(meter)s, %(volume_out_l)s,
       CASE WHEN %(volume_out_l)s::float8 IS NULL THEN 'unknown' ELSE coalesce(%(kind)s, d.volume_out_kind) END,
       d.level_missing_l, %(volume_in_l)s, d.oil_id, %(filter_changed)s, %(magnet_grade)s, %(air_filter)s, d.sample_no, d.note,
       (d.extra - %(gone)s::text[]) || %(set)s::jsonb, %(by)s
FROM drain d WHERE d.drain_id = %(drain_id)s RETURNING drain_id

-- :part_follows  the job's part points at the drain that holds
UPDATE job_part SET drain_id = %(new_id)s WHERE drain_id = %(drain_id)s

-- :bottle_follows  its bottle goes where the drain goes; how old that oil was is worked anew
UPDATE bottle b SET drain_id = %(new_id)s, compartment_id = %(compartment_id)s, drawn_on = %(on_day)s, meter = %(meter)s,
    oil_hours = %(meter)s - (SELECT p.meter FROM drain p WHERE p.compartment_id = %(compartment_id)s AND p.superseded_by IS NULL
                             AND p.on_day < %(on_day)s ORDER BY p.on_day DESC LIMIT 1),
    topup_l = CASE WHEN b.compartment_id = %(compartment_id)s THEN b.topup_l END
WHERE b.drain_id = %(drain_id)s RETURNING b.sample_no

-- :bottle_stays  drawn all the same
UPDATE bottle SET drain_id = NULL WHERE drain_id = %(drain_id)s RETURNING sample_no

-- :samples  what the lab has reported of these bottles
SELECT sample_id, sampled_on, meter, drained FROM sample
WHERE sample_no = ANY(%(numbers)s) AND compartment_id = %(compartment_id)s AND superseded_by IS NULL ORDER BY sample_id

-- :parts_catch_up  jobs whose drain a file put right point at the row that holds
UPDATE job_part p SET drain_id = d.superseded_by FROM drain d
WHERE d.fleet_id = p.fleet_id AND d.drain_id = p.drain_id AND d.superseded_by IS NOT NULL AND d.superseded_by <> d.drain_id

-- :bottles_catch_up  and so do bottles
UPDATE bottle b SET drain_id = d.superseded_by FROM drain d
WHERE d.fleet_id = b.fleet_id AND d.drain_id = b.drain_id AND d.superseded_by IS NOT NULL AND d.superseded_by <> d.drain_id

-- :noted  top-ups, levels, part changes, symptoms and coolant of a compartment, newest first, what does not hold too
SELECT * FROM (
    SELECT 'topup' AS kind, top_up_id AS row_id, on_day, meter, litres, NULL::float8 AS litres_out, NULL::float8 AS litres_in,
           (extra ->> 'reading_before')::float8 AS reading_before, (extra ->> 'reading_after')::float8 AS reading_after, '' AS what, '' AS note,
           recorded_by, recorded_at, superseded_by, superseded_why FROM top_up WHERE compartment_id = %(compartment_id)s
    UNION ALL
    SELECT 'level', level_check_id, on_day, meter, NULL, NULL, NULL, (extra ->> 'reading')::float8, NULL, '', '', recorded_by, recorded_at,
           superseded_by, superseded_why FROM level_check WHERE compartment_id = %(compartment_id)s
    UNION ALL
    SELECT 'event', event_id, on_day, meter, NULL, litres_out, litres_in, NULL, NULL, kind, note, recorded_by, recorded_at,
           superseded_by, superseded_why FROM event WHERE compartment_id = %(compartment_id)s
    UNION ALL
    SELECT kind, observation_id, on_day, meter, litres, NULL, NULL, NULL, NULL, what, note, recorded_by, recorded_at, superseded_by,
           superseded_why FROM observation WHERE compartment_id = %(compartment_id)s
) n ORDER BY on_day DESC, recorded_at DESC, row_id DESC LIMIT %(limit)s

-- :noted_of_unit  drains and notes of a unit's compartments that hold, newest first
SELECT n.kind, n.row_id, n.compartment_id, c.name AS compartment, c.counts AS meter_unit, n.on_day, n.meter, n.litres, n.reading, n.what,
       n.recorded_by FROM (
    SELECT fleet_id, 'drain' AS kind, drain_id AS row_id, compartment_id, on_day, meter, volume_out_l AS litres, NULL::float8 AS reading,
           '' AS what, recorded_by, recorded_at FROM drain WHERE superseded_by IS NULL
    UNION ALL SELECT fleet_id, 'topup', top_up_id, compartment_id, on_day, meter, litres, NULL, '', recorded_by, recorded_at
    FROM top_up WHERE superseded_by IS NULL
    UNION ALL SELECT fleet_id, 'level', level_check_id, compartment_id, on_day, meter, NULL, (extra ->> 'reading')::float8, '', recorded_by,
           recorded_at FROM level_check WHERE superseded_by IS NULL
    UNION ALL SELECT fleet_id, 'event', event_id, compartment_id, on_day, meter, litres_in, NULL, kind, recorded_by, recorded_at
    FROM event WHERE superseded_by IS NULL
    UNION ALL SELECT fleet_id, kind, observation_id, compartment_id, on_day, meter, litres, NULL, what, recorded_by, recorded_at
    FROM observation WHERE superseded_by IS NULL
) n JOIN compartment c USING (fleet_id, compartment_id)
WHERE c.unit_id = %(unit_id)s AND n.compartment_id = ANY(ARRAY(SELECT compartment_id FROM compartment WHERE unit_id = %(unit_id)s))
ORDER BY n.on_day DESC, n.recorded_at DESC LIMIT %(limit)s

-- :level  one that holds, with its place; two who put it right at once take turns
SELECT n.level_check_id AS row_id, n.compartment_id, n.on_day, n.meter, (n.extra ->> 'reading')::float8 AS reading, n.level_missing_l,
       n.recorded_by, n.recorded_at, c.name AS compartment, c.counts AS meter_unit, u.unit_id, u.name AS unit
FROM level_check n JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE n.level_check_id = %(row_id)s AND n.superseded_by IS NULL FOR UPDATE OF n

-- :level_set_aside  it stays on record
UPDATE level_check SET superseded_by = %(by_id)s, superseded_why = %(why)s WHERE level_check_id = %(row_id)s

-- :level_again  the row that took its place
SELECT level_check_id AS row_id FROM level_check WHERE compartment_id = %(compartment_id)s AND on_day = %(on_day)s
  AND meter = %(meter)s AND superseded_by IS NULL

-- :topup  one that holds, with its place
SELECT n.top_up_id AS row_id, n.compartment_id, n.on_day, n.meter, n.litres, (n.extra ->> 'reading_before')::float8 AS reading_before,
       (n.extra ->> 'reading_after')::float8 AS reading_after, n.recorded_by, n.recorded_at, c.name AS compartment,
       c.counts AS meter_unit, u.unit_id, u.name AS unit
FROM top_up n JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE n.top_up_id = %(row_id)s AND n.superseded_by IS NULL FOR UPDATE OF n

-- :topup_set_aside  it stays on record
UPDATE top_up SET superseded_by = %(by_id)s, superseded_why = %(why)s WHERE top_up_id = %(row_id)s

-- :topup_again  the row that took its place
SELECT top_up_id AS row_id FROM top_up WHERE compartment_id = %(compartment_id)s AND on_day = %(on_day)s
  AND meter = %(meter)s AND superseded_by IS NULL

-- :event  one that holds, with its place
SELECT n.event_id AS row_id, n.compartment_id, n.on_day, n.meter, n.kind AS what, n.litres_out, n.litres_in, n.serial, n.note, n.recorded_by,
       n.recorded_at, c.name AS compartment, c.counts AS meter_unit, u.unit_id, u.name AS unit
FROM event n JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE n.event_id = %(row_id)s AND n.superseded_by IS NULL FOR UPDATE OF n

-- :event_set_aside  it stays on record
UPDATE event SET superseded_by = %(by_id)s, superseded_why = %(why)s WHERE event_id = %(row_id)s

-- :event_again  the row that took its place
SELECT event_id AS row_id FROM event WHERE compartment_id = %(compartment_id)s AND on_day = %(on_day)s AND kind = %(what)s
  AND superseded_by IS NULL

-- :symptom  one that holds, with its place
SELECT n.observation_id AS row_id, n.compartment_id, n.on_day, n.meter, n.what, n.litres, n.note, n.recorded_by, n.recorded_at,
       c.name AS compartment, c.counts AS meter_unit, u.unit_id, u.name AS unit
FROM observation n JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = n.fleet_id AND u.unit_id = n.unit_id
WHERE n.observation_id = %(row_id)s AND n.superseded_by IS NULL AND n.kind = 'symptom' FOR UPDATE OF n

-- :observation_set_aside  it stays on record
UPDATE observation SET superseded_by = %(by_id)s, superseded_why = %(why)s WHERE observation_id = %(row_id)s

-- :observation_again  the row that took its place
SELECT observation_id AS row_id FROM observation WHERE client_id = %(client_id)s

-- :coolant  one that holds, with its place
SELECT n.observation_id AS row_id, n.compartment_id, n.on_day, n.meter, n.what, n.litres, n.note, n.recorded_by, n.recorded_at,
       c.name AS compartment, c.counts AS meter_unit, u.unit_id, u.name AS unit
FROM observation n JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = n.fleet_id AND u.unit_id = n.unit_id
WHERE n.observation_id = %(row_id)s AND n.superseded_by IS NULL AND n.kind = 'coolant' FOR UPDATE OF n

-- :just_now  the newest thing somebody noted at a compartment, while it may still be undone
SELECT kind, row_id, said, extract(epoch FROM now() - recorded_at)::int AS seconds FROM (
    SELECT 'topup' AS kind, top_up_id AS row_id, 'Top-up' AS said, recorded_at, recorded_by FROM top_up
    WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL
    UNION ALL SELECT 'level', level_check_id, 'Level', recorded_at, recorded_by FROM level_check
    WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL
    UNION ALL SELECT 'event', event_id, 'Part change', recorded_at, recorded_by FROM event
    WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL
    UNION ALL SELECT kind, observation_id, initcap(what), recorded_at, recorded_by FROM observation
    WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL
    UNION ALL SELECT 'meter', r.reading_id, 'Meter', r.recorded_at, r.recorded_by FROM meter_reading r
    JOIN compartment c ON c.fleet_id = r.fleet_id AND c.unit_id = r.unit_id AND c.meter_no = r.meter_no
    WHERE c.compartment_id = %(compartment_id)s AND r.superseded_by IS NULL) n
WHERE recorded_by = %(by)s AND recorded_at > now() - %(seconds)s * interval '1 second' ORDER BY recorded_at DESC LIMIT 1

-- :bottle_moves  drawn elsewhere than its label said; the drain it hung on stays where it is
UPDATE bottle SET compartment_id = %(to)s, drain_id = NULL, oil_hours = NULL, topup_l = NULL, meter = %(meter)s
WHERE sample_no = %(sample_no)s AND compartment_id = %(from)s
