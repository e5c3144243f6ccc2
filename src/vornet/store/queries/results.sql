-- :places  where a sample can come from: every unit and compartment by name
SELECT u.unit_id, u.name AS unit, c.compartment_id, c.name AS compartment
FROM unit u LEFT JOIN compartment c USING (fleet_id, unit_id)

-- :drain_samples  samples announced at a drain
SELECT sample_no, d.compartment_id, c.unit_id, d.on_day, d.meter
FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
WHERE d.superseded_by IS NULL AND d.sample_no IS NOT NULL

-- :file_known  a file with the same bytes
SELECT import_file_id FROM import_file WHERE sha256 = %(sha256)s ORDER BY import_file_id LIMIT 1

-- :put_file  keep the file as it came
INSERT INTO import_file (fleet_id, name, lab, sha256, bytes, content, layout, recorded_by)
VALUES (%(fleet_id)s, %(name)s, %(lab)s, %(sha256)s, %(bytes)s, %(content)s, %(layout)s, %(by)s)
RETURNING import_file_id

-- :finish_file  what became of it
UPDATE import_file SET rows_in = %(rows_in)s, rows_new = %(rows_new)s, rows_same = %(rows_same)s,
       rows_reissued = %(rows_reissued)s, rows_held = %(rows_held)s, notes = %(notes)s
WHERE import_file_id = %(import_file_id)s

-- :forget_file  a file that changed nothing leaves no trace
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

-- :known_identities  which of these sample numbers are there already
SELECT EXISTS (SELECT 1 FROM staging_sample g JOIN sample s ON s.lab = g.lab AND s.sample_no = g.sample_no
               AND s.superseded_by IS NULL)

-- :fates  same, reissued or contradicting, for rows whose number is known
UPDATE staging_sample g
SET fate = CASE
        WHEN s.digest = g.digest THEN 'same'
        WHEN s.compartment_id IS DISTINCT FROM g.compartment_id THEN 'other_unit'
        WHEN s.sampled_on <> g.sampled_on THEN 'other_date'
        WHEN g.reported_on > coalesce(s.reported_on, '-infinity') THEN 'reissued'
        WHEN g.reported_on < s.reported_on THEN 'same'
        ELSE 'contradicts' END
FROM sample s WHERE s.lab = g.lab AND s.sample_no = g.sample_no AND s.superseded_by IS NULL

-- :contradicting  rows that cannot go in because their number is taken
SELECT g.row_no, g.fate, s.sampled_on AS known_on, u.name AS known_unit, c.name AS known_compartment
FROM staging_sample g
JOIN sample s ON s.lab = g.lab AND s.sample_no = g.sample_no AND s.superseded_by IS NULL
LEFT JOIN compartment c ON c.compartment_id = s.compartment_id LEFT JOIN unit u ON u.unit_id = c.unit_id
WHERE g.fate IN ('other_unit', 'other_date', 'contradicts')

-- :count_fates
SELECT coalesce(fate, 'new') AS fate, count(*) AS n FROM staging_sample GROUP BY 1

-- :supersede  the report that a re-issued one replaces; the new id is filled in at once
WITH fresh AS (
    INSERT INTO sample (fleet_id, compartment_id, unit_id, oil_id, sampled_on, meter, oil_hours, topup_l, drained,
        filter_changed, below, above, values, sample_no, lab, received_on, reported_on, comment, severity,
        import_file_id, row_no, digest, recorded_by, superseded_by)
    SELECT %(fleet_id)s, compartment_id, unit_id, oil_id, sampled_on, meter, oil_hours, topup_l, drained,
        filter_changed, below, above, values, sample_no, lab, received_on, reported_on, comment, severity,
        %(import_file_id)s, row_no, digest, %(by)s, 0
    FROM staging_sample WHERE fate = 'reissued'
    RETURNING sample_id, lab, sample_no
)
UPDATE sample s SET superseded_by = fresh.sample_id, superseded_why = 're-issued by the lab'
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

-- :empty_staging
TRUNCATE staging_sample

-- :touched  compartments that this chunk brought something for
SELECT DISTINCT compartment_id FROM staging_sample WHERE (fate IS NULL OR fate = 'reissued') AND compartment_id IS NOT NULL

-- :hold_row  keep a row that could not go in, once
INSERT INTO held_row (fleet_id, import_file_id, row_no, reason, field, detail, sample_no, lab, unit_name,
    compartment_name, sampled_on, original, digest)
VALUES (%(fleet_id)s, %(import_file_id)s, %(row_no)s, %(reason)s, %(field)s, %(detail)s, %(sample_no)s, %(lab)s,
    %(unit_name)s, %(compartment_name)s, %(sampled_on)s, %(original)s, %(digest)s)
ON CONFLICT (fleet_id, digest, reason) DO NOTHING

-- :resolve_rows  held rows whose sample has since gone in
UPDATE held_row h SET resolved_at = now(), resolved_by = %(by)s, resolution = 'went in later'
WHERE resolved_at IS NULL AND reason NOT IN ('other_unit', 'other_date', 'contradicts') AND sample_no <> ''
  AND EXISTS (SELECT 1 FROM sample s WHERE s.sample_no = h.sample_no AND s.lab = h.lab AND s.superseded_by IS NULL)

-- :files  the newest files first
SELECT import_file_id, name, lab, layout, bytes, rows_in, rows_new, rows_same, rows_reissued, rows_held, notes,
       recorded_at, recorded_by
FROM import_file ORDER BY import_file_id DESC LIMIT %(limit)s

-- :file  one file
SELECT import_file_id, name, lab, layout, bytes, rows_in, rows_new, rows_same, rows_reissued, rows_held, notes,
       recorded_at, recorded_by
FROM import_file WHERE import_file_id = %(import_file_id)s

-- :file_content  its bytes
SELECT name, content FROM import_file WHERE import_file_id = %(import_file_id)s

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

-- :holds  samples kept out, with why
SELECT h.hold_id, h.sample_id, h.reason, h.detail, s.sample_no, s.lab, s.sampled_on, s.compartment_id,
       u.name AS unit, c.name AS compartment
FROM hold h JOIN sample s USING (fleet_id, sample_id)
LEFT JOIN compartment c ON c.fleet_id = s.fleet_id AND c.compartment_id = s.compartment_id
LEFT JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE (h.settled_at IS NULL OR h.settlement = 'rejected') AND s.superseded_by IS NULL
  AND (%(open_only)s = false OR h.settled_at IS NULL)
ORDER BY s.sampled_on DESC, h.hold_id LIMIT %(limit)s

-- :settle_hold  let it in or throw it out
UPDATE hold SET settled_at = now(), settled_by = %(by)s, settlement = %(settlement)s, why = %(why)s
WHERE hold_id = %(hold_id)s AND settled_at IS NULL
RETURNING sample_id

-- :sample_compartment
SELECT compartment_id, sample_no FROM sample WHERE sample_id = %(sample_id)s
