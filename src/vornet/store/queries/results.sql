-- :places  where a sample can come from: every unit and compartment by name
SELECT u.unit_id, u.name AS unit, c.compartment_id, c.name AS compartment
FROM unit u LEFT JOIN compartment c USING (fleet_id, unit_id)

-- :announced  samples announced at a drain or by a bottle's label; not those that were put right since they were reported, whose
-- label no longer says what the lab's file says
WITH put_right AS MATERIALIZED (SELECT s.sample_no FROM correction k JOIN sample s USING (fleet_id, sample_id) WHERE k.kind = 'corrected')
SELECT b.sample_no, b.compartment_id, c.unit_id, b.drawn_on AS on_day, b.meter, b.oil_id, b.oil_hours, b.topup_l
FROM bottle b LEFT JOIN compartment c USING (fleet_id, compartment_id)
WHERE b.sample_no NOT IN (SELECT sample_no FROM put_right)
UNION ALL
SELECT d.sample_no, d.compartment_id, c.unit_id, d.on_day, d.meter, NULL, NULL, NULL
FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
WHERE d.superseded_by IS NULL AND d.sample_no IS NOT NULL AND d.sample_no NOT IN (SELECT sample_no FROM put_right)
  AND NOT EXISTS (SELECT 1 FROM bottle b WHERE b.sample_no = d.sample_no)

-- :file_known  an earlier file with the same bytes from the same lab
SELECT import_file_id FROM import_file
WHERE sha256 = %(sha256)s AND lab = %(lab)s AND import_file_id <> %(import_file_id)s ORDER BY import_file_id LIMIT 1

-- :came_again  the same bytes were sent twice
UPDATE import_file SET again_at = now() WHERE import_file_id = %(import_file_id)s

-- :measure_file  its sum is known once all of it has come
UPDATE import_file SET sha256 = %(sha256)s, bytes = %(bytes)s WHERE import_file_id = %(import_file_id)s

-- :put_piece  kept as it comes
INSERT INTO import_piece (fleet_id, import_file_id, n, content) VALUES (%(fleet_id)s, %(import_file_id)s, %(n)s, %(content)s)

-- :piece  one piece, so that memory stays flat
SELECT content FROM import_piece WHERE import_file_id = %(import_file_id)s AND n = %(n)s

-- :put_file  keep the file as it came; its pieces, size and sum follow
INSERT INTO import_file (fleet_id, name, lab, sha256, bytes, layout, recorded_by, way, state)
VALUES (%(fleet_id)s, %(name)s, %(lab)s, '', 0, %(layout)s, %(by)s, %(way)s, %(state)s)
RETURNING import_file_id

-- :finish_file  what became of it
UPDATE import_file SET layout = %(layout)s, reading = %(reading)s, rows_in = %(rows_in)s, rows_new = rows_new + %(rows_new)s,
       rows_same = greatest(%(rows_same)s - rows_new - rows_reissued, 0), rows_reissued = rows_reissued + %(rows_reissued)s, rows_held = %(rows_held)s,
       notes = %(notes)s, state = 'done', trouble = '', rows_done = %(rows_in)s, begun = 0
WHERE import_file_id = %(import_file_id)s

-- :begin_reading  a file that waits, or that a dead worker left
UPDATE import_file SET state = 'reading', trouble = '', rows_done = 0, begun = begun + 1
WHERE import_file_id = %(import_file_id)s AND state IN ('waiting', 'reading', 'mapping')
RETURNING import_file_id, name, lab, recorded_by, begun

-- :begun  how often reading it was begun
SELECT state, begun, name, recorded_by FROM import_file WHERE import_file_id = %(import_file_id)s

-- :claim  one reader at a time
SELECT pg_try_advisory_xact_lock(%(fleet_id)s, (%(import_file_id)s %% 2147483647)::integer) AS claimed

-- :progress  told while it is read
UPDATE import_file SET rows_done = %(rows)s WHERE import_file_id = %(import_file_id)s

-- :set_aside  it waits for a person, or cannot be read
UPDATE import_file SET state = %(state)s, trouble = %(trouble)s, begun = 0 WHERE import_file_id = %(import_file_id)s

-- :name_lab  a person says which lab a file is from
UPDATE import_file SET lab = %(lab)s, state = 'waiting', trouble = '', begun = 0 WHERE import_file_id = %(import_file_id)s AND state = 'mapping'

-- :forget_file  bytes that are kept already are not kept twice
DELETE FROM import_file WHERE import_file_id = %(import_file_id)s

-- :staging  rows wait here: COPY does not write into tables with row-level security
CREATE TEMP TABLE IF NOT EXISTS staging_sample (
    compartment_id bigint, unit_id bigint, oil_id bigint, sampled_on date, meter double precision,
    oil_hours double precision, topup_l double precision, drained boolean, filter_changed boolean,
    below bigint, above bigint, values double precision[], sample_no text, lab text, received_on date,
    reported_on date, comment text, severity text, row_no integer, digest bigint, fate text
) ON COMMIT DELETE ROWS

-- :copy_staging  in this order
COPY staging_sample (compartment_id, unit_id, oil_id, sampled_on, meter, oil_hours, topup_l, drained, filter_changed,
    below, above, values, sample_no, lab, received_on, reported_on, comment, severity, row_no, digest) FROM STDIN (FORMAT binary)

-- :fates  what becomes of rows whose number is known
UPDATE staging_sample g
SET fate = CASE
        WHEN s.digest = g.digest THEN 'same'
        -- put right here since: what the lab sends once more is what it sent before
        WHEN EXISTS (SELECT 1 FROM sample o WHERE o.lab = g.lab AND o.sample_no = g.sample_no AND o.superseded_by IS NOT NULL
                     AND o.digest = s.digest AND o.compartment_id IS NOT DISTINCT FROM g.compartment_id AND o.sampled_on = g.sampled_on
                     AND o.values = g.values AND o.reported_on IS NOT DISTINCT FROM g.reported_on) THEN 'same'
        WHEN s.import_file_id = %(import_file_id)s AND s.row_no <> g.row_no THEN 'number_twice'
        WHEN s.import_file_id = %(import_file_id)s THEN 'reread'
        WHEN s.compartment_id IS DISTINCT FROM g.compartment_id THEN 'other_unit'
        WHEN s.sampled_on <> g.sampled_on THEN 'other_date'
        WHEN g.reported_on > coalesce(s.reported_on, '-infinity') THEN 'reissued'
        WHEN g.reported_on < s.reported_on THEN 'same'
        ELSE 'contradicts' END
FROM sample s WHERE s.lab = g.lab AND s.sample_no = g.sample_no AND s.superseded_by IS NULL

-- :contradicting  rows that cannot go in because their number is taken
SELECT g.row_no, g.fate, s.sampled_on AS known_on, s.row_no AS known_row, u.name AS known_unit, c.name AS known_compartment
FROM staging_sample g
JOIN sample s ON s.lab = g.lab AND s.sample_no = g.sample_no AND s.superseded_by IS NULL
LEFT JOIN compartment c ON c.compartment_id = s.compartment_id LEFT JOIN unit u ON u.unit_id = c.unit_id
WHERE g.fate IN ('other_unit', 'other_date', 'contradicts', 'number_twice')

-- :count_fates  how many were known, re-issued, read again
SELECT coalesce(fate, 'new') AS fate, count(*) AS n FROM staging_sample GROUP BY 1

-- :supersede  the report that a re-issued one replaces; the new id is filled in at once
WITH fresh AS (
    INSERT INTO sample (fleet_id, compartment_id, unit_id, oil_id, sampled_on, meter, oil_hours, topup_l, drained,
        filter_changed, below, above, values, sample_no, lab, received_on, reported_on, comment, severity,
        import_file_id, row_no, digest, recorded_by, superseded_by)
    SELECT %(fleet_id)s, compartment_id, unit_id, oil_id, sampled_on, meter, oil_hours, topup_l, drained,
        filter_changed, below, above, values, sample_no, lab, received_on, reported_on, comment, severity,
        %(import_file_id)s, row_no, digest, %(by)s, 0
    FROM staging_sample WHERE fate IN ('reissued', 'reread')
    RETURNING sample_id, lab, sample_no
)
UPDATE sample s SET superseded_by = fresh.sample_id,
       superseded_why = CASE WHEN s.import_file_id = %(import_file_id)s THEN 'read again' ELSE 're-issued by the lab' END
FROM fresh WHERE s.lab = fresh.lab AND s.sample_no = fresh.sample_no AND s.superseded_by IS NULL

-- :enact  make the re-issued reports the current ones
UPDATE sample SET superseded_by = NULL WHERE superseded_by = 0 AND import_file_id = %(import_file_id)s

-- :insert_new  rows whose number was not known
INSERT INTO sample (fleet_id, compartment_id, unit_id, oil_id, sampled_on, meter, oil_hours, topup_l, drained,
    filter_changed, below, above, values, sample_no, lab, received_on, reported_on, comment, severity,
    import_file_id, row_no, digest, recorded_by)
SELECT %(fleet_id)s, compartment_id, unit_id, oil_id, sampled_on, meter, oil_hours, topup_l, drained,
    filter_changed, below, above, values, sample_no, lab, received_on, reported_on, comment, severity,
    %(import_file_id)s, row_no, digest, %(by)s
FROM staging_sample WHERE fate IS NULL

-- :empty_staging  the next chunk begins afresh
TRUNCATE staging_sample

-- :touched  compartments that this chunk brought something for
SELECT DISTINCT compartment_id FROM staging_sample WHERE (fate IS NULL OR fate IN ('reissued', 'reread')) AND compartment_id IS NOT NULL

-- :hold_row  keep a row that could not go in, once
INSERT INTO held_row (fleet_id, import_file_id, row_no, reason, field, detail, sample_no, lab, unit_name,
    compartment_name, sampled_on, original, digest)
VALUES (%(fleet_id)s, %(import_file_id)s, %(row_no)s, %(reason)s, %(field)s, %(detail)s, %(sample_no)s, %(lab)s,
    %(unit_name)s, %(compartment_name)s, %(sampled_on)s, %(original)s, %(digest)s)
ON CONFLICT (fleet_id, digest, reason) DO NOTHING

-- :resolve_rows  held rows whose sample has since gone in
UPDATE held_row h SET resolved_at = now(), resolved_by = %(by)s, resolution = 'went in later'
WHERE resolved_at IS NULL AND reason NOT IN ('other_unit', 'other_date', 'contradicts', 'number_twice') AND sample_no <> ''
  AND EXISTS (SELECT 1 FROM sample s WHERE s.sample_no = h.sample_no AND s.lab = h.lab AND s.superseded_by IS NULL)

-- :files  the newest files first
SELECT import_file_id, name, lab, layout, bytes, rows_in, rows_new, rows_same, rows_reissued, rows_held, notes,
       recorded_at, recorded_by, state, way, rows_done, reading, trouble, again_at
FROM import_file ORDER BY import_file_id DESC LIMIT %(limit)s

-- :file  one file
SELECT import_file_id, name, lab, layout, bytes, rows_in, rows_new, rows_same, rows_reissued, rows_held, notes,
       recorded_at, recorded_by, state, way, rows_done, reading, trouble, again_at
FROM import_file WHERE import_file_id = %(import_file_id)s

-- :make_room  a person lets a row take the place of the sample that has its number
UPDATE sample SET superseded_by = 0, superseded_why = 'replaced by hand'
WHERE sample_no = %(sample_no)s AND lab = %(lab)s AND superseded_by IS NULL

-- :room_made  the sample that gave way points to the one that has its number now
UPDATE sample s SET superseded_by = n.sample_id FROM sample n
WHERE s.superseded_by = 0 AND s.sample_no = %(sample_no)s AND s.lab = %(lab)s
  AND n.sample_no = s.sample_no AND n.lab = s.lab AND n.superseded_by IS NULL

-- :held_rows  rows that wait, newest file first
SELECT h.held_row_id, h.import_file_id, f.name AS file_name, h.row_no, h.reason, h.field, h.detail, h.sample_no, h.lab,
       h.unit_name, h.compartment_name, h.sampled_on, h.original
FROM held_row h JOIN import_file f USING (fleet_id, import_file_id)
WHERE h.resolved_at IS NULL AND (%(import_file_id)s::bigint IS NULL OR h.import_file_id = %(import_file_id)s)
ORDER BY h.import_file_id DESC, h.row_no LIMIT %(limit)s

-- :held_rows_everything  for the judgements export: rows that carry a sample number
SELECT sample_no, lab, unit_name, compartment_name, sampled_on, reason, detail FROM held_row
WHERE resolved_at IS NULL AND sample_no <> '' ORDER BY held_row_id

-- :dismiss_row  a person has dealt with it
UPDATE held_row SET resolved_at = now(), resolved_by = %(by)s, resolution = %(resolution)s
WHERE held_row_id = %(held_row_id)s AND resolved_at IS NULL

-- :held_files  files that still have rows waiting
SELECT DISTINCT import_file_id FROM held_row WHERE resolved_at IS NULL ORDER BY 1

-- :holds  samples kept out, with why; newest first
SELECT h.hold_id, h.sample_id, h.reason, h.detail, h.facts, h.raised_at, s.sample_no, s.lab, s.sampled_on, s.compartment_id, s.meter,
       s.oil_hours, s.comment, s.severity, s.import_file_id, s.row_no, u.name AS unit, c.name AS compartment, c.counts AS meter_unit,
       b.shipment_id, sh.number AS shipment
FROM hold h JOIN sample s USING (fleet_id, sample_id)
LEFT JOIN compartment c ON c.fleet_id = s.fleet_id AND c.compartment_id = s.compartment_id
LEFT JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN bottle b ON b.fleet_id = s.fleet_id AND b.sample_no = s.sample_no
LEFT JOIN shipment sh ON sh.fleet_id = b.fleet_id AND sh.shipment_id = b.shipment_id
WHERE h.settled_at IS NULL AND s.superseded_by IS NULL AND (%(hold_id)s::bigint IS NULL OR h.hold_id = %(hold_id)s)
ORDER BY s.sampled_on DESC, h.hold_id LIMIT %(limit)s

-- :settle_others  the rest of a rejected sample's holds
UPDATE hold SET settled_at = now(), settled_by = %(by)s, settlement = 'rejected', why = %(why)s
WHERE sample_id = %(sample_id)s AND settled_at IS NULL

-- :held_row  one waiting row with its file
SELECT h.held_row_id, h.import_file_id, h.row_no, h.reason, h.field, h.detail, h.sample_no, h.original, h.resolved_at, f.lab AS file_lab,
       f.name AS file_name
FROM held_row h JOIN import_file f USING (fleet_id, import_file_id) WHERE h.held_row_id = %(held_row_id)s

-- :sample_of_row  which sample a file's row became
SELECT sample_id FROM sample WHERE import_file_id = %(import_file_id)s AND row_no = %(row_no)s AND superseded_by IS NULL

-- :put_correction  what a person changed and why
INSERT INTO correction (fleet_id, sample_id, old_sample_id, kind, what, why, made_by)
VALUES (%(fleet_id)s, %(sample_id)s, %(old_sample_id)s, %(kind)s, %(what)s, %(why)s, %(by)s)

-- :whole_sample  every column, to be copied with changes
SELECT sample_id, compartment_id, unit_id, oil_id, sampled_on, meter, oil_hours, topup_l, drained, filter_changed, below, above, values,
       sample_no, lab, received_on, reported_on, comment, severity, import_file_id, row_no, digest
FROM sample WHERE sample_id = %(sample_id)s AND superseded_by IS NULL

-- :step_aside  make room for a changed row
UPDATE sample SET superseded_by = 0 WHERE sample_id = %(sample_id)s

-- :insert_changed  a changed row under the same number; its digest stays that of what the lab sent
INSERT INTO sample (fleet_id, compartment_id, unit_id, oil_id, sampled_on, meter, oil_hours, topup_l, drained, filter_changed, below,
    above, values, sample_no, lab, received_on, reported_on, comment, severity, import_file_id, row_no, digest, recorded_by)
VALUES (%(fleet_id)s, %(compartment_id)s, %(unit_id)s, %(oil_id)s, %(sampled_on)s, %(meter)s, %(oil_hours)s, %(topup_l)s, %(drained)s,
    %(filter_changed)s, %(below)s, %(above)s, %(values)s, %(sample_no)s, %(lab)s, %(received_on)s, %(reported_on)s, %(comment)s,
    %(severity)s, %(import_file_id)s, %(row_no)s, %(digest)s, %(by)s)
RETURNING sample_id

-- :superseded  what replaced a row, and why
UPDATE sample SET superseded_by = %(sample_id)s, superseded_why = %(why)s WHERE sample_id = %(old_sample_id)s

-- :carry_releases  what a person had let in stays let in
INSERT INTO hold (fleet_id, sample_id, reason, detail, facts, settled_at, settled_by, settlement, why)
SELECT fleet_id, %(sample_id)s, reason, detail, facts, settled_at, settled_by, settlement, why
FROM hold WHERE sample_id = %(old_sample_id)s AND settlement = 'released'

-- :clear_holds  a corrected sample is looked at anew
UPDATE hold SET settled_at = now(), settled_by = %(by)s, settlement = 'cleared', why = %(why)s
WHERE sample_id = %(sample_id)s AND settled_at IS NULL

-- :versions  every row a sample's number has had, newest first
SELECT s.sample_id, s.values, s.meter, s.oil_hours, s.sampled_on, s.reported_on, s.recorded_at, s.recorded_by, s.superseded_by,
       s.superseded_why, s.import_file_id, s.row_no, f.name AS file_name, k.kind, k.what, k.why, k.made_by, k.made_at
FROM sample o JOIN sample s ON s.fleet_id = o.fleet_id AND s.lab = o.lab AND s.sample_no = o.sample_no
LEFT JOIN import_file f ON f.fleet_id = s.fleet_id AND f.import_file_id = s.import_file_id
LEFT JOIN correction k ON k.fleet_id = s.fleet_id AND k.sample_id = s.sample_id
WHERE o.sample_id = %(sample_id)s ORDER BY s.sample_id DESC

-- :reissued_by  samples whose current row this file brought in place of another
SELECT n.sample_id, n.sample_no, n.compartment_id, n.sampled_on, u.name AS unit, c.name AS compartment, o.reported_on AS was_reported_on,
       n.reported_on, o.superseded_why
FROM sample n JOIN sample o ON o.fleet_id = n.fleet_id AND o.superseded_by = n.sample_id
LEFT JOIN compartment c ON c.fleet_id = n.fleet_id AND c.compartment_id = n.compartment_id
LEFT JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE n.import_file_id = %(import_file_id)s ORDER BY n.row_no LIMIT 200

-- :wait_again  a person asks for another reading
UPDATE import_file SET state = 'waiting', trouble = '', begun = 0 WHERE import_file_id = %(import_file_id)s AND layout <> 'register'

-- :settle_hold  let it in or throw it out
UPDATE hold SET settled_at = now(), settled_by = %(by)s, settlement = %(settlement)s, why = %(why)s
WHERE hold_id = %(hold_id)s AND settled_at IS NULL
RETURNING sample_id

-- :sample_compartment  what a settled hold concerns
SELECT compartment_id, sample_no FROM sample WHERE sample_id = %(sample_id)s

-- :numbers  current samples by number
SELECT sample_id, sample_no FROM sample WHERE superseded_by IS NULL

-- :around  the three samples before one and the one after it
(SELECT sampled_on, values, below FROM sample
 WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL AND sampled_on < %(on)s ORDER BY sampled_on DESC LIMIT 3)
UNION ALL
(SELECT sampled_on, values, below FROM sample
 WHERE compartment_id = %(compartment_id)s AND superseded_by IS NULL AND sampled_on > %(on)s ORDER BY sampled_on LIMIT 1)
ORDER BY sampled_on

-- :new_oil_of  what a compartment's oil was when new
SELECT o.name, o.new_values FROM compartment c JOIN oil o ON o.fleet_id = c.fleet_id AND o.oil_id = c.oil_id
WHERE c.compartment_id = %(compartment_id)s

-- :holds_everything  reasons that keep samples out: open, and those of rejected samples
SELECT h.sample_id, h.reason, h.detail FROM hold h JOIN sample s USING (fleet_id, sample_id)
WHERE (h.settled_at IS NULL OR h.settlement = 'rejected') AND s.superseded_by IS NULL ORDER BY h.hold_id

