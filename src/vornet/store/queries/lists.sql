-- :put_file  a list as it came
INSERT INTO list_file (fleet_id, name, content, recorded_by) VALUES (%(fleet_id)s, %(name)s, %(content)s, %(by)s) RETURNING list_file_id

-- :file  one list
SELECT list_file_id, name, content, assumed, state, counts, notes, recorded_by, recorded_at FROM list_file WHERE list_file_id = %(list_file_id)s

-- :files  lists, newest first, with how many of their rows wait
SELECT f.list_file_id, f.name, f.state, f.counts, f.recorded_by, f.recorded_at,
       (SELECT count(*) FROM list_row r WHERE r.fleet_id = f.fleet_id AND r.list_file_id = f.list_file_id AND r.state = 'waits') AS waits
FROM list_file f ORDER BY f.list_file_id DESC LIMIT 20

-- :assume  what was said of the whole list
UPDATE list_file SET assumed = %(assumed)s WHERE list_file_id = %(list_file_id)s

-- :finish  what became of it
UPDATE list_file SET state = 'done', counts = %(counts)s, notes = %(notes)s WHERE list_file_id = %(list_file_id)s

-- :forget_file  a list that nobody took in
DELETE FROM list_file WHERE list_file_id = %(list_file_id)s AND state = 'mapping'

-- :put_row  a row that waits
INSERT INTO list_row (fleet_id, list_file_id, row_no, cells, problems) VALUES (%(fleet_id)s, %(list_file_id)s, %(row_no)s, %(cells)s, %(problems)s)

-- :rows  rows that wait, in the file's order
SELECT list_row_id, row_no, cells, problems FROM list_row WHERE list_file_id = %(list_file_id)s AND state = 'waits' ORDER BY row_no

-- :row  one row that waits, kept from others meanwhile
SELECT r.list_row_id, r.list_file_id, r.row_no, r.cells, r.problems, f.assumed, f.name
FROM list_row r JOIN list_file f USING (fleet_id, list_file_id) WHERE r.list_row_id = %(list_row_id)s AND r.state = 'waits' FOR UPDATE OF r

-- :row_still_wrong  what was typed is kept, with what is wrong with it now
UPDATE list_row SET cells = %(cells)s, problems = %(problems)s WHERE list_row_id = %(list_row_id)s

-- :settle_row  it went in, or is left out for good
UPDATE list_row SET state = %(state)s, cells = %(cells)s, settled_by = %(by)s, settled_why = %(why)s WHERE list_row_id = %(list_row_id)s

-- :headings  what people have said of headings
SELECT heading, meaning FROM list_heading

-- :put_heading  said once, remembered
INSERT INTO list_heading (fleet_id, heading, meaning) VALUES (%(fleet_id)s, %(heading)s, %(meaning)s)
ON CONFLICT (fleet_id, heading) DO UPDATE SET meaning = excluded.meaning

-- :forget_heading  as if nobody had said anything
DELETE FROM list_heading WHERE heading = %(heading)s
