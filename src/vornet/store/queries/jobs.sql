-- :make  a card for one visit
INSERT INTO job (fleet_id, unit_id, planned_on, note, made_by) VALUES (%(fleet_id)s, %(unit_id)s, %(planned_on)s, %(note)s, %(by)s)
RETURNING job_id

-- :put_part  one compartment or item of a card
INSERT INTO job_part (fleet_id, job_id, place, compartment_id, item_id, sample, task)
VALUES (%(fleet_id)s, %(job_id)s, %(place)s, %(compartment_id)s, %(item_id)s, %(sample)s, %(task)s)

-- :job  a card with its unit
SELECT j.job_id, j.unit_id, u.name AS unit, u.model, u.meter_unit, u.second_meter_unit, u.facts ->> 'access' AS access, u.depot_id, d.name AS depot,
       j.planned_on, j.state, j.note, j.made_at, j.made_by, j.opened_at, j.closed_at
FROM job j JOIN unit u USING (fleet_id, unit_id) LEFT JOIN depot d USING (fleet_id, depot_id) WHERE j.job_id = %(job_id)s

-- :lock  two devices of one job take turns
SELECT 1 FROM job WHERE job_id = %(job_id)s FOR UPDATE

-- :parts  in the order they are done
SELECT p.part_id, p.compartment_id, p.item_id, p.sample, p.task, p.state, p.reason, p.drain_id, p.figures, c.name AS compartment, c.kind,
       c.meter_no, c.counts, i.name AS item, i.facts AS item_facts, i.condition
FROM job_part p LEFT JOIN compartment c USING (fleet_id, compartment_id)
LEFT JOIN service_item i ON i.fleet_id = p.fleet_id AND i.item_id = p.item_id
WHERE p.job_id = %(job_id)s ORDER BY p.place, p.part_id

-- :list  job cards, what is open first
SELECT j.job_id, j.unit_id, u.name AS unit, d.name AS depot, j.planned_on, j.state, j.note, j.opened_at, j.closed_at, j.opened_by,
       (SELECT array_agg(coalesce(CASE p.task WHEN 'sample' THEN 'bottle from ' WHEN 'drain' THEN '' ELSE replace(p.task, '_', ' ') || ' of ' END || c.name, i.name) ORDER BY p.place, p.part_id) FROM job_part p
        LEFT JOIN compartment c ON c.fleet_id = p.fleet_id AND c.compartment_id = p.compartment_id
        LEFT JOIN service_item i ON i.fleet_id = p.fleet_id AND i.item_id = p.item_id
        WHERE p.fleet_id = j.fleet_id AND p.job_id = j.job_id) AS parts,
       (SELECT count(*) FROM job_part p WHERE p.fleet_id = j.fleet_id AND p.job_id = j.job_id AND p.state <> 'open') AS closed_parts,
       (SELECT string_agg(DISTINCT p.reason, '; ') FROM job_part p
        WHERE p.fleet_id = j.fleet_id AND p.job_id = j.job_id AND p.reason <> '') AS reasons
FROM job j JOIN unit u USING (fleet_id, unit_id) LEFT JOIN depot d USING (fleet_id, depot_id)
WHERE (%(state)s = 'all' OR %(state)s = 'todo' AND j.state IN ('planned', 'open') OR j.state = %(state)s)
ORDER BY j.state NOT IN ('open', 'planned'), CASE WHEN j.state IN ('open', 'planned') THEN j.planned_on END,
         j.planned_on DESC, j.job_id DESC LIMIT %(limit)s

-- :counts  how many cards of each state
SELECT count(*) FILTER (WHERE state IN ('planned', 'open')) AS todo, count(*) FILTER (WHERE state = 'done') AS done,
       count(*) FILTER (WHERE state = 'part') AS part, count(*) FILTER (WHERE state = 'stopped') AS stopped,
       count(*) FILTER (WHERE state = 'cancelled') AS cancelled, count(*) AS all
FROM job

-- :open_of_unit  a card of this unit that is not closed yet
SELECT job_id FROM job WHERE unit_id = %(unit_id)s AND state IN ('planned', 'open') ORDER BY job_id DESC LIMIT 1

-- :opened  planned becomes under way
UPDATE job SET state = 'open', opened_at = coalesce(opened_at, now()), opened_by = coalesce(opened_by, %(by)s)
WHERE job_id = %(job_id)s AND state = 'planned'

-- :others  who has entered something in a job besides somebody, and when last
SELECT j.state, j.unit_id, (SELECT u.depot_id FROM unit u WHERE u.unit_id = j.unit_id) AS depot_id,
       (SELECT array_agg(DISTINCT e.by) FROM job_entry e WHERE e.job_id = j.job_id AND e.by <> %(me)s) AS others,
       (SELECT max(e.at) FROM job_entry e WHERE e.job_id = j.job_id AND e.by <> %(me)s) AS last_at,
       EXISTS (SELECT 1 FROM job_entry e WHERE e.job_id = j.job_id AND e.by = %(me)s) AS mine
FROM job j WHERE j.job_id = %(job_id)s

-- :settle  what became of the visit
UPDATE job SET state = %(state)s, closed_at = now() WHERE job_id = %(job_id)s

-- :cancel  only a card that is not closed
UPDATE job SET state = 'cancelled', closed_at = now(), note = trim(note || ' ' || %(why)s)
WHERE job_id = %(job_id)s AND state IN ('planned', 'open') RETURNING unit_id

-- :part_state  how a part ended, with its figures
UPDATE job_part SET state = %(state)s, reason = %(reason)s, drain_id = %(drain_id)s, figures = %(figures)s
WHERE part_id = %(part_id)s

-- :entries  everybody's, oldest first
SELECT entry_id, part_id, key, value, at, by FROM job_entry WHERE job_id = %(job_id)s

-- :put_entry  the same entry again changes nothing
INSERT INTO job_entry (fleet_id, entry_id, job_id, part_id, key, value, at, by)
VALUES (%(fleet_id)s, %(entry_id)s, %(job_id)s, %(part_id)s, %(key)s, %(value)s, %(at)s, %(by)s)
ON CONFLICT (fleet_id, entry_id) DO NOTHING RETURNING entry_id

-- :put_photo  kept once
INSERT INTO job_photo (fleet_id, photo_id, job_id, part_id, unit_id, compartment_id, item_id, observation_id, deferred_id, place, about,
    content, by)
VALUES (%(fleet_id)s, %(photo_id)s, %(job_id)s, %(part_id)s, %(unit_id)s, %(compartment_id)s, %(item_id)s, %(observation_id)s,
    %(deferred_id)s, %(place)s, %(about)s, %(content)s, %(by)s)
ON CONFLICT (fleet_id, photo_id) DO NOTHING RETURNING photo_id

-- :photos  which pictures there are, without their bytes
SELECT photo_id, part_id, about, place, at, by FROM job_photo WHERE job_id = %(job_id)s AND taken_back_by IS NULL ORDER BY at

-- :photo  one picture
SELECT content FROM job_photo WHERE photo_id = %(photo_id)s

-- :photo_of  whether what a picture is of is at its unit
SELECT EXISTS (SELECT 1 FROM compartment WHERE compartment_id = %(compartment_id)s AND unit_id = %(unit_id)s) AS compartment_id,
       EXISTS (SELECT 1 FROM service_item WHERE item_id = %(item_id)s AND unit_id = %(unit_id)s) AS item_id,
       EXISTS (SELECT 1 FROM observation WHERE observation_id = %(observation_id)s AND unit_id = %(unit_id)s) AS observation_id,
       EXISTS (SELECT 1 FROM deferred WHERE deferred_id = %(deferred_id)s AND unit_id = %(unit_id)s) AS deferred_id

-- :photos_of_unit  newest first
SELECT p.photo_id, p.job_id, p.compartment_id, c.name AS compartment, p.item_id, i.name AS item, p.deferred_id, p.observation_id, p.place, p.about, p.at,
       p.by
FROM job_photo p LEFT JOIN compartment c ON c.fleet_id = p.fleet_id AND c.compartment_id = p.compartment_id
LEFT JOIN service_item i ON i.fleet_id = p.fleet_id AND i.item_id = p.item_id
WHERE p.unit_id = %(unit_id)s AND p.taken_back_by IS NULL
  AND (%(compartment_id)s::bigint IS NULL OR p.compartment_id = %(compartment_id)s) ORDER BY p.at DESC LIMIT %(limit)s

-- :last_photos  of each place of a unit, before a job
SELECT DISTINCT ON (compartment_id, item_id, place) photo_id, compartment_id, item_id, place, about, at, by FROM job_photo
WHERE unit_id = %(unit_id)s AND taken_back_by IS NULL AND place <> '' AND job_id IS DISTINCT FROM %(job_id)s
ORDER BY compartment_id, item_id, place, at DESC

-- :photo_back  shown no more, kept on record
UPDATE job_photo p SET taken_back_by = %(by)s, taken_back_why = %(why)s FROM unit u
WHERE u.fleet_id = p.fleet_id AND u.unit_id = p.unit_id AND p.photo_id = %(photo_id)s::uuid AND p.taken_back_by IS NULL
RETURNING p.unit_id, u.name AS unit, p.about

-- :put_device  a key for one job's entries only
INSERT INTO job_device (fleet_id, token_hash, job_id, account_id, expires_at)
VALUES (%(fleet_id)s, %(token_hash)s, %(job_id)s, %(account_id)s, now() + interval '14 days')

-- :put_deferred  what is put off, by whom it is owed
INSERT INTO deferred (fleet_id, unit_id, compartment_id, job_id, entry_id, kind, what, part, owner, due_on, level_left, made_by)
VALUES (%(fleet_id)s, %(unit_id)s, %(compartment_id)s, %(job_id)s, %(entry_id)s, %(kind)s, %(what)s, %(part)s, %(owner)s,
        %(due_on)s, %(level_left)s, %(by)s)
ON CONFLICT (fleet_id, entry_id) DO NOTHING

-- :deferred  what was put off and is still open, or all of one unit
SELECT x.deferred_id, x.unit_id, u.name AS unit, x.compartment_id, c.name AS compartment, x.job_id, x.kind, x.what, x.part, x.owner,
       x.due_on, x.level_left, x.made_at, x.made_by, x.closed_at, x.closed_by, x.finding
FROM deferred x JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN compartment c ON c.fleet_id = x.fleet_id AND c.compartment_id = x.compartment_id
WHERE (%(unit_id)s::bigint IS NULL AND x.closed_at IS NULL OR x.unit_id = %(unit_id)s)
ORDER BY x.closed_at IS NOT NULL, x.due_on NULLS LAST, x.deferred_id DESC LIMIT 200

-- :close_deferred  only once
UPDATE deferred SET closed_at = now(), closed_by = %(by)s, finding = %(finding)s
WHERE deferred_id = %(deferred_id)s AND closed_at IS NULL RETURNING what, unit_id, compartment_id, kind, level_left

-- :put_bottle  drawn at a drain, before it is sent
INSERT INTO bottle (fleet_id, sample_no, compartment_id, drawn_on, meter, oil_hours, oil_id, topup_l, conditions, drain_id, drawn_by)
VALUES (%(fleet_id)s, %(sample_no)s, %(compartment_id)s, %(drawn_on)s, %(meter)s, %(oil_hours)s, %(oil_id)s, %(topup_l)s,
        %(conditions)s, %(drain_id)s, %(by)s)
ON CONFLICT (fleet_id, sample_no) DO NOTHING RETURNING bottle_id

-- :bottle_known  a label may be used once
SELECT b.sample_no, b.compartment_id FROM bottle b WHERE b.sample_no = %(sample_no)s

-- :put_waste  where the old oil went
INSERT INTO waste (fleet_id, job_id, compartment_id, on_day, litres, handed_to, recorded_by)
VALUES (%(fleet_id)s, %(job_id)s, %(compartment_id)s, %(on_day)s, %(litres)s, %(into)s, %(by)s)

-- :topped_up_since  litres added since a day
SELECT coalesce(sum(litres), 0) AS litres FROM top_up
WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL AND on_day > coalesce(%(since)s::date, '-infinity'::date)

-- :put_observation  kept once, whatever the connection did
INSERT INTO observation (fleet_id, unit_id, compartment_id, on_day, meter, kind, what, litres, note, client_id, recorded_by)
VALUES (%(fleet_id)s, %(unit_id)s, %(compartment_id)s, %(on_day)s, %(meter)s, %(kind)s, %(what)s, %(litres)s, %(note)s,
        %(client_id)s, %(by)s)
ON CONFLICT (fleet_id, client_id) DO NOTHING

-- :kit_week  open cards planned between two days, for the kit list
SELECT job_id FROM job WHERE state IN ('planned', 'open') AND planned_on BETWEEN %(first)s AND %(last)s ORDER BY planned_on, job_id

-- :recent  compartments that someone noted something at lately
SELECT DISTINCT ON (c.compartment_id) c.compartment_id, u.name AS unit, c.name AS compartment, x.at FROM (
    SELECT compartment_id, max(recorded_at) AS at FROM top_up WHERE recorded_at > now() - interval '60 days' GROUP BY 1
    UNION ALL SELECT compartment_id, max(recorded_at) FROM level_check GROUP BY 1
    UNION ALL SELECT compartment_id, max(recorded_at) FROM drain GROUP BY 1) x
JOIN compartment c USING (compartment_id) JOIN unit u USING (fleet_id, unit_id)
ORDER BY c.compartment_id, x.at DESC

-- :device_owner  whose device a key belongs to, asked before anybody is known
SELECT * FROM job_device_owner(%(token_hash)s)

-- :reported  whether a lab has reported a bottle
SELECT 1 FROM sample WHERE sample_no = %(sample_no)s AND superseded_by IS NULL LIMIT 1

-- :bottle_of_drain  the bottle drawn at a drain
SELECT sample_no FROM bottle WHERE drain_id = %(drain_id)s

-- :drop_bottle  it is on record again when its part is closed again
DELETE FROM bottle WHERE sample_no = %(sample_no)s

-- :drop_waste  what was written down for the collector at this drain
DELETE FROM waste WHERE job_id = %(job_id)s AND compartment_id = %(compartment_id)s

-- :drop_deferred  what the closing put off: the second look, the stop, what was done instead; not what was seen in passing
DELETE FROM deferred d WHERE d.closed_at IS NULL AND d.job_id = %(job_id)s
  AND (d.kind = 'recheck' AND d.compartment_id = %(compartment_id)s
       OR d.entry_id IN (SELECT e.entry_id FROM job_entry e WHERE e.job_id = %(job_id)s AND e.part_id = %(part_id)s
                         AND (e.key = 'stop' OR e.key = 'defer' AND (e.value ->> 'instead')::boolean)))

-- :set_record_aside  what was written down of a service item in this job
UPDATE service_record SET superseded_by = record_id, superseded_why = %(why)s
WHERE record_id = (SELECT record_id FROM service_record WHERE part_id = %(part_id)s AND superseded_by IS NULL ORDER BY record_id DESC LIMIT 1)

-- :record_of_part  which part of a job an item's newest record is from
UPDATE service_record SET part_id = %(part_id)s WHERE item_id = %(item_id)s AND on_day = %(on)s AND superseded_by IS NULL

-- :stock_back  what the part used goes back on the shelf
INSERT INTO stock_move (fleet_id, depot_id, thing, kind, amount, on_day, note, recorded_by)
SELECT fleet_id, depot_id, thing, 'received', amount, %(on)s, %(why)s, %(by)s FROM stock_move WHERE part_id = %(part_id)s

-- :stock_free  and may be used again by the same part
UPDATE stock_move SET part_id = NULL WHERE part_id = %(part_id)s

-- :part_open  as before it was closed
UPDATE job_part SET state = 'open', reason = '', drain_id = NULL, figures = '{}' WHERE part_id = %(part_id)s

-- :job_open  so is its job
UPDATE job SET state = 'open', closed_at = NULL WHERE job_id = %(job_id)s

-- :restore  a cancelled card
UPDATE job SET state = 'planned', closed_at = NULL WHERE job_id = %(job_id)s AND state = 'cancelled' RETURNING unit_id

-- :depots  by name
SELECT depot_id, name FROM depot ORDER BY name

-- :works_at  where a person works
SELECT depot_id FROM works_at WHERE account_id = %(account_id)s

-- :work_at  from now on
INSERT INTO works_at (fleet_id, account_id, depot_id) VALUES (%(fleet_id)s, %(account_id)s, %(depot_id)s)
ON CONFLICT (fleet_id, account_id) DO UPDATE SET depot_id = excluded.depot_id

-- :works_nowhere  in particular
DELETE FROM works_at WHERE account_id = %(account_id)s

-- :to_do  cards that are not closed, the earliest first
SELECT j.job_id, j.unit_id, u.name AS unit, u.depot_id, d.name AS depot, j.planned_on, j.state, j.note, j.opened_by,
       EXISTS (SELECT 1 FROM job_entry e WHERE e.fleet_id = j.fleet_id AND e.job_id = j.job_id AND e.by = %(me)s) AS mine,
       (SELECT array_agg(coalesce(CASE p.task WHEN 'sample' THEN 'bottle from ' WHEN 'drain' THEN '' ELSE replace(p.task, '_', ' ') || ' of ' END
                                  || c.name, i.name) ORDER BY p.place, p.part_id)
        FROM job_part p LEFT JOIN compartment c ON c.fleet_id = p.fleet_id AND c.compartment_id = p.compartment_id
        LEFT JOIN service_item i ON i.fleet_id = p.fleet_id AND i.item_id = p.item_id
        WHERE p.fleet_id = j.fleet_id AND p.job_id = j.job_id) AS parts,
       (SELECT count(*) FROM job_part p WHERE p.fleet_id = j.fleet_id AND p.job_id = j.job_id AND p.state <> 'open') AS closed_parts,
       (SELECT array_agg(DISTINCT p.compartment_id) FROM job_part p
        WHERE p.fleet_id = j.fleet_id AND p.job_id = j.job_id AND p.compartment_id IS NOT NULL) AS compartments,
       (SELECT count(*) FROM job_part p WHERE p.fleet_id = j.fleet_id AND p.job_id = j.job_id AND p.sample) AS bottles
FROM job j JOIN unit u USING (fleet_id, unit_id) LEFT JOIN depot d USING (fleet_id, depot_id)
WHERE j.state IN ('planned', 'open') ORDER BY j.state = 'planned', j.planned_on, j.job_id LIMIT 300

-- :last_of_units  the last picture of each place
SELECT DISTINCT ON (unit_id, compartment_id, item_id, place) photo_id FROM job_photo
WHERE unit_id = ANY(%(units)s) AND taken_back_by IS NULL AND place <> '' ORDER BY unit_id, compartment_id, item_id, place, at DESC

-- :hear_note  a note from a phone counts once
INSERT INTO note_heard (fleet_id, client_id, said) VALUES (%(fleet_id)s, %(client_id)s, %(said)s)
ON CONFLICT DO NOTHING RETURNING client_id

-- :last_levels  the last two levels read of a charge: alone, at a top-up or left by the drain
SELECT meter, on_day, reading FROM (
    SELECT meter, on_day, (extra ->> 'reading')::float8 AS reading, recorded_at FROM level_check
    WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL AND meter IS NOT NULL AND extra ? 'reading'
    UNION ALL
    SELECT meter, on_day, (extra ->> 'reading_after')::float8, recorded_at FROM top_up
    WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL AND extra ? 'reading_after'
    UNION ALL
    SELECT meter, on_day, (extra ->> 'reading_after')::float8, recorded_at FROM drain
    WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL AND extra ? 'reading_after') l
WHERE on_day >= coalesce((SELECT max(on_day) FROM drain WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL), '-infinity')
ORDER BY meter DESC, on_day DESC, recorded_at DESC LIMIT 2

-- :added_between  litres poured between two levels; a top-up whose own level stands at the start is in that level
SELECT coalesce(sum(litres), 0) AS litres FROM top_up
WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL AND meter > %(after)s AND meter <= %(upto)s AND on_day >= %(from)s

-- :of_unit  a unit's last cards
SELECT job_id, planned_on, state, opened_by FROM job WHERE unit_id = %(unit_id)s ORDER BY planned_on DESC, job_id DESC LIMIT %(limit)s
