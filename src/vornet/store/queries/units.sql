-- :list  the register's rows, one a compartment, filtered and sorted; what costs is asked for one page only
WITH found AS MATERIALIZED (
    SELECT c.fleet_id, c.compartment_id, row_number() OVER (
    ORDER BY
      CASE WHEN NOT %(down)s THEN CASE %(sort)s WHEN 'family' THEN c.family WHEN 'depot' THEN d.name WHEN 'oil' THEN o.name
           WHEN 'kind' THEN c.kind WHEN 'state' THEN u.state END END,
      CASE WHEN %(down)s THEN CASE %(sort)s WHEN 'unit' THEN u.name WHEN 'family' THEN c.family WHEN 'depot' THEN d.name
           WHEN 'oil' THEN o.name WHEN 'kind' THEN c.kind WHEN 'state' THEN u.state END END DESC,
      CASE WHEN NOT %(down)s THEN CASE %(sort)s WHEN 'volume' THEN c.system_volume_l WHEN 'capacity' THEN c.capacity_l
           WHEN 'interval' THEN s.interval_meter WHEN 'due' THEN s.due_day - date '2000-01-01' END END,
      CASE WHEN %(down)s THEN CASE %(sort)s WHEN 'volume' THEN c.system_volume_l WHEN 'capacity' THEN c.capacity_l
           WHEN 'interval' THEN s.interval_meter WHEN 'due' THEN s.due_day - date '2000-01-01' END END DESC NULLS LAST,
      u.name, c.compartment_id
    ) AS nth
    FROM compartment c JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
    LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
    LEFT JOIN oil o ON o.fleet_id = c.fleet_id AND o.oil_id = c.oil_id
    LEFT JOIN standing s ON s.fleet_id = c.fleet_id AND s.compartment_id = c.compartment_id
    CROSS JOIN LATERAL (SELECT CASE WHEN %(q)s = '' THEN '' ELSE lower(concat_ws(
        ' ', u.name, c.name, u.model, c.family, u.facts ->> 'serial', u.facts ->> 'plate', o.name)) END AS words OFFSET 0) w
    WHERE (%(q)s = '' OR CASE WHEN octet_length(w.words) = length(w.words) THEN w.words ELSE plain_letters(w.words) END
           LIKE (SELECT plain_letters(%(like)s)))
      AND (%(depot)s = '' OR d.name = %(depot)s)
      AND (%(kind)s = '' OR c.kind = %(kind)s)
      AND (%(family)s = '' OR c.family = %(family)s)
      AND (%(oil)s = '' OR o.name = %(oil)s)
      AND (%(state)s = '' OR u.state = %(state)s)
      AND (NOT %(doubted)s OR EXISTS (SELECT 1 FROM doubt x WHERE x.fleet_id = c.fleet_id
              AND x.compartment_id = c.compartment_id AND x.settled IS NULL))
      AND (%(only)s::bigint[] IS NULL OR c.compartment_id = ANY(%(only)s))
), page AS MATERIALIZED (
    SELECT fleet_id, compartment_id, nth FROM found ORDER BY nth LIMIT %(limit)s OFFSET %(offset)s
)
SELECT page.nth, (SELECT count(*) FROM found) AS total,
       c.fleet_id, c.compartment_id, c.unit_id, u.name AS unit, c.name AS compartment, c.kind, c.family, u.model, u.duty, u.state,
       d.name AS depot, o.name AS oil, c.system_volume_l, c.capacity_l, c.counts AS meter_unit, s.interval_meter, s.due_day, s.to_due,
       s.rate_per_day,
       (SELECT count(*) FROM service_item i WHERE i.fleet_id = c.fleet_id AND i.unit_id = c.unit_id
          AND (i.compartment_id = c.compartment_id OR i.compartment_id IS NULL)) AS items,
       EXISTS (SELECT 1 FROM doubt x WHERE x.fleet_id = c.fleet_id AND x.compartment_id = c.compartment_id AND x.settled IS NULL) AS doubted
FROM page JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
LEFT JOIN oil o ON o.fleet_id = c.fleet_id AND o.oil_id = c.oil_id
LEFT JOIN standing s ON s.fleet_id = c.fleet_id AND s.compartment_id = c.compartment_id
ORDER BY page.nth

-- :facets  what the list can be narrowed by
SELECT (SELECT array_agg(name ORDER BY name) FROM depot) AS depots,
       (SELECT array_agg(DISTINCT kind ORDER BY kind) FROM compartment) AS kinds,
       (SELECT array_agg(DISTINCT family ORDER BY family) FROM compartment) AS families,
       (SELECT array_agg(name ORDER BY name) FROM oil) AS oils,
       (SELECT count(*) FROM unit) AS units, (SELECT count(*) FROM compartment) AS compartments,
       (SELECT count(DISTINCT compartment_id) FROM doubt WHERE settled IS NULL) AS doubted

-- :unit  one unit
SELECT u.unit_id, u.name AS unit, d.name AS depot, u.model, u.duty, u.meter_unit, u.second_meter_unit, u.estimated_per_day,
       u.state, u.facts
FROM unit u LEFT JOIN depot d USING (fleet_id, depot_id) WHERE u.unit_id = %(unit_id)s

-- :shared_here  sumps of other units that this unit shares
SELECT c.compartment_id, u.name AS unit, c.name AS compartment FROM compartment c JOIN unit u USING (fleet_id, unit_id)
WHERE c.shared_unit_id = %(unit_id)s

-- :latest_meters  the newest figure of each of a unit's meters
SELECT DISTINCT ON (meter_no) meter_no, on_day, meter FROM (
    SELECT meter_no, on_day, meter FROM meter_reading WHERE unit_id = %(unit_id)s AND superseded_by IS NULL
    UNION ALL SELECT c.meter_no, d.on_day, d.meter FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
    WHERE c.unit_id = %(unit_id)s AND d.superseded_by IS NULL) m
ORDER BY meter_no, on_day DESC, meter DESC

-- :meter_around  the figures just before and just after a day
(SELECT on_day, meter FROM (
    SELECT on_day, meter FROM meter_reading
    WHERE unit_id = %(unit_id)s AND meter_no = %(meter_no)s AND superseded_by IS NULL AND on_day <= %(on)s
    UNION ALL SELECT d.on_day, d.meter FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
    WHERE c.unit_id = %(unit_id)s AND c.meter_no = %(meter_no)s AND d.superseded_by IS NULL AND d.on_day <= %(on)s) m
 ORDER BY on_day DESC, meter DESC LIMIT 1)
UNION ALL
(SELECT on_day, meter FROM (
    SELECT on_day, meter FROM meter_reading
    WHERE unit_id = %(unit_id)s AND meter_no = %(meter_no)s AND superseded_by IS NULL AND on_day > %(on)s
    UNION ALL SELECT d.on_day, d.meter FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
    WHERE c.unit_id = %(unit_id)s AND c.meter_no = %(meter_no)s AND d.superseded_by IS NULL AND d.on_day > %(on)s) m
 ORDER BY on_day, meter LIMIT 1)

-- :compartments_in_full  a unit's compartments with where they stand
SELECT c.compartment_id, s.oil_hours, s.headroom, s.open_faults,
       headroom_now(s.urgency, s.open_faults, s.headroom, s.headroom_as_is) AS headroom_now, s.headroom_is_safe, s.headroom_open, s.limiting, s.due_meter, s.due_day, s.to_due,
       s.due_driver, c.counts AS meter_unit, s.last_proposed, s.last_sampled_on
FROM compartment c LEFT JOIN standing s USING (fleet_id, compartment_id) WHERE c.unit_id = %(unit_id)s
ORDER BY c.compartment_id

-- :events_of  newest first
SELECT e.event_id, e.compartment_id, c.name AS compartment, e.on_day, e.meter, e.kind, e.litres_out, e.litres_in, e.serial, e.note,
       e.recorded_by
FROM event e JOIN compartment c USING (fleet_id, compartment_id)
WHERE c.unit_id = %(unit_id)s AND e.superseded_by IS NULL ORDER BY e.on_day DESC LIMIT 30

-- :attachments_of  which files there are, without their bytes
SELECT attachment_id, compartment_id, name, kind, media_type, length(content) AS bytes, recorded_at, recorded_by
FROM attachment WHERE unit_id = %(unit_id)s ORDER BY kind, name

-- :attachment  one file with its bytes
SELECT name, media_type, content FROM attachment WHERE attachment_id = %(attachment_id)s

-- :put_attachment  the same content twice is one
INSERT INTO attachment (fleet_id, unit_id, compartment_id, name, kind, media_type, content, sha256, recorded_by)
SELECT %(fleet_id)s, %(unit_id)s, %(compartment_id)s::bigint, %(name)s, %(kind)s, %(media_type)s, %(content)s, %(sha256)s, %(by)s
WHERE NOT EXISTS (SELECT 1 FROM attachment WHERE unit_id = %(unit_id)s AND sha256 = %(sha256)s
                  AND compartment_id IS NOT DISTINCT FROM %(compartment_id)s::bigint)

-- :remove_attachment  its name goes into the audit trail
DELETE FROM attachment WHERE attachment_id = %(attachment_id)s RETURNING name, unit_id

-- :unit_by_name  a name is used once
SELECT unit_id FROM unit WHERE name = %(name)s

-- :rename_unit  before its other figures are put by name
UPDATE unit SET name = %(name)s WHERE unit_id = %(unit_id)s

-- :rename_compartment  before its other figures are put by name
UPDATE compartment SET name = %(name)s WHERE compartment_id = %(compartment_id)s

-- :holds  what hangs on a unit, or on one of its compartments, that would be gone with it
WITH mine AS (SELECT compartment_id FROM compartment
              WHERE compartment_id = %(compartment_id)s OR (%(compartment_id)s::bigint IS NULL AND unit_id = %(unit_id)s))
SELECT what, n FROM (
    SELECT 1 AS place, 'drains' AS what, count(*) AS n FROM drain WHERE compartment_id IN (SELECT * FROM mine)
    UNION ALL SELECT 2, 'samples', count(*) FROM sample WHERE compartment_id IN (SELECT * FROM mine)
    UNION ALL SELECT 3, 'top-ups', count(*) FROM top_up WHERE compartment_id IN (SELECT * FROM mine)
    UNION ALL SELECT 4, 'levels read', count(*) FROM level_check WHERE compartment_id IN (SELECT * FROM mine)
    UNION ALL SELECT 5, 'part changes and repairs', count(*) FROM event WHERE compartment_id IN (SELECT * FROM mine)
    UNION ALL SELECT 6, 'bottles', count(*) FROM bottle WHERE compartment_id IN (SELECT * FROM mine)
    UNION ALL SELECT 7, 'parts of jobs', count(*) FROM job_part WHERE compartment_id IN (SELECT * FROM mine)
    UNION ALL SELECT 8, 'things noticed', count(*) FROM observation WHERE compartment_id IN (SELECT * FROM mine)
    UNION ALL SELECT 9, 'approved intervals', count(*) FROM drain_interval
              WHERE compartment_id IN (SELECT * FROM mine) AND origin = 'approved'
    UNION ALL SELECT 10, 'pictures', count(*) FROM job_photo WHERE compartment_id IN (SELECT * FROM mine)
              OR (%(compartment_id)s::bigint IS NULL AND unit_id = %(unit_id)s)
    UNION ALL SELECT 11, 'jobs', count(*) FROM job WHERE %(compartment_id)s::bigint IS NULL AND unit_id = %(unit_id)s
    UNION ALL SELECT 12, 'service records', count(*) FROM service_record r JOIN service_item i USING (fleet_id, item_id)
              WHERE i.compartment_id IN (SELECT * FROM mine) OR (%(compartment_id)s::bigint IS NULL AND i.unit_id = %(unit_id)s)
) x WHERE n > 0 ORDER BY place

-- :remove_compartment  one that nothing hangs on
DELETE FROM compartment WHERE compartment_id = %(compartment_id)s RETURNING name

-- :remove_unit  one that nothing hangs on, with its readings
DELETE FROM unit WHERE unit_id = %(unit_id)s RETURNING name

-- :pourings  refills with what was read after them, newest thirty a compartment
SELECT compartment_id, volume_in_l, filter_changed, (extra ->> 'reading_after')::float8 AS reading_after FROM (
    SELECT d.*, row_number() OVER (PARTITION BY compartment_id ORDER BY on_day DESC) AS nth FROM drain d
    WHERE superseded_by IS NULL AND volume_in_l IS NOT NULL
      AND (%(compartments)s::bigint[] IS NULL OR compartment_id = ANY(%(compartments)s))) x
WHERE nth <= 30

-- :topped_up  top-ups with both levels read
SELECT compartment_id, litres, (extra ->> 'reading_before')::float8 AS reading_before,
       (extra ->> 'reading_after')::float8 AS reading_after FROM top_up
WHERE superseded_by IS NULL AND extra ? 'reading_before' AND extra ? 'reading_after'
  AND (%(compartments)s::bigint[] IS NULL OR compartment_id = ANY(%(compartments)s))

-- :register_figures  what measurements are compared with
SELECT compartment_id, capacity_l, capacity_without_filter_l, volume_between_marks_l FROM compartment
WHERE %(compartments)s::bigint[] IS NULL OR compartment_id = ANY(%(compartments)s)

-- :doubts  figures that measurements speak against
SELECT x.compartment_id, u.unit_id, u.name AS unit, c.name AS compartment, x.field, x.said, x.learned, x.low, x.high, x.n, x.settled,
       x.settled_by, x.settled_at, x.why
FROM doubt x JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE (%(compartments)s::bigint[] IS NULL OR x.compartment_id = ANY(%(compartments)s)) ORDER BY u.name, c.compartment_id, x.field

-- :put_doubt  a decision stands until what was learned leaves the band it was taken on
INSERT INTO doubt (fleet_id, compartment_id, field, said, learned, low, high, n)
VALUES (%(fleet_id)s, %(compartment_id)s, %(field)s, %(said)s, %(learned)s, %(low)s, %(high)s, %(n)s)
ON CONFLICT (fleet_id, compartment_id, field) DO UPDATE
SET said = excluded.said, learned = excluded.learned, low = excluded.low, high = excluded.high, n = excluded.n,
    settled = NULL, settled_by = NULL, settled_at = NULL, why = ''
WHERE doubt.settled IS NULL OR doubt.settled = 'taken' OR excluded.learned NOT BETWEEN doubt.low AND doubt.high

-- :clear_doubt  nothing speaks against it any more
DELETE FROM doubt WHERE compartment_id = %(compartment_id)s AND field = %(field)s AND settled IS DISTINCT FROM 'kept'

-- :settle_doubt  taken or kept, once
UPDATE doubt SET settled = %(settled)s, settled_by = %(by)s, settled_at = now(), why = %(why)s
WHERE compartment_id = %(compartment_id)s AND field = %(field)s AND settled IS NULL RETURNING learned, said

-- :oil  one oil
SELECT oil_id, name, grade, density_kg_l, new_values, facts FROM oil WHERE oil_id = %(oil_id)s

-- :oil_use  where an oil is the one meant
SELECT c.compartment_id, u.name AS unit, c.name AS compartment, c.system_volume_l, c.kind FROM compartment c
JOIN unit u USING (fleet_id, unit_id) WHERE c.oil_id = %(oil_id)s ORDER BY u.name, c.compartment_id

-- :oil_list  with how much of it is in use
SELECT o.oil_id, o.name, o.grade, o.density_kg_l, o.new_values, o.facts, count(c.compartment_id) AS compartments,
       sum(c.system_volume_l) AS litres,
       (SELECT count(*) FROM oil_batch b WHERE b.fleet_id = o.fleet_id AND b.oil_id = o.oil_id) AS batches
FROM oil o LEFT JOIN compartment c ON c.fleet_id = o.fleet_id AND c.oil_id = o.oil_id
GROUP BY o.fleet_id, o.oil_id ORDER BY o.name

-- :concessions  pours outside the register
SELECT d.on_day, u.name AS unit, c.name AS compartment, c.compartment_id, o.name AS oil, d.extra ->> 'concession' AS concession,
       d.extra -> 'concession_of' AS against,
       (d.extra ->> 'ambient_c')::float8 AS ambient_c, d.recorded_by
FROM drain d JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN oil o ON o.fleet_id = d.fleet_id AND o.oil_id = d.oil_id
WHERE d.superseded_by IS NULL AND d.extra ? 'concession' AND (%(oil_id)s::bigint IS NULL OR d.oil_id = %(oil_id)s)
ORDER BY d.on_day DESC LIMIT 100

-- :rename_oil  before its other figures are put by name
UPDATE oil SET name = %(name)s WHERE oil_id = %(oil_id)s

-- :find_oils_and_units  what else fits a typed word
SELECT 'unit' AS kind, unit_id AS id, concat_ws(' · ', name, nullif(facts ->> 'serial', ''), nullif(facts ->> 'plate', '')) AS name
FROM unit WHERE plain_letters(concat_ws(' ', name, facts ->> 'serial', facts ->> 'plate')) LIKE plain_letters(%(like)s)
UNION ALL SELECT 'oil', oil_id, name FROM oil WHERE plain_letters(name || ' ' || coalesce(grade, '')) LIKE plain_letters(%(like)s)
UNION ALL SELECT 'item', i.item_id, u.name || ' · ' || i.name FROM service_item i JOIN unit u USING (fleet_id, unit_id)
          WHERE plain_letters(i.name) LIKE plain_letters(%(like)s)
ORDER BY 1 DESC, 3 LIMIT %(limit)s

-- :depots_of_units  where each unit is kept
SELECT u.name AS unit, d.name AS depot FROM unit u LEFT JOIN depot d USING (fleet_id, depot_id)

-- :readings_of  what was read off a unit's meters, newest first; what was put right stays behind it
SELECT r.reading_id, r.meter_no, r.on_day, r.meter, r.recorded_by, r.recorded_at, r.superseded_by, r.superseded_why
FROM meter_reading r WHERE r.unit_id = %(unit_id)s ORDER BY r.on_day DESC, r.recorded_at DESC, r.reading_id DESC LIMIT 40

-- :take_reading  one that holds, to be put right; two who do it at once take turns
SELECT r.reading_id, r.unit_id, r.meter_no, r.on_day, r.meter, u.name AS unit, u.meter_unit, u.second_meter_unit
FROM meter_reading r JOIN unit u USING (fleet_id, unit_id)
WHERE r.reading_id = %(reading_id)s AND r.superseded_by IS NULL FOR UPDATE OF r

-- :supersede_reading  it stays on record, with why it does not hold; by itself where nothing takes its place
UPDATE meter_reading SET superseded_by = %(by_id)s, superseded_why = %(why)s WHERE reading_id = %(reading_id)s

-- :put_reading  in the place of one that was wrong
INSERT INTO meter_reading (fleet_id, unit_id, meter_no, on_day, meter, recorded_by)
VALUES (%(fleet_id)s, %(unit_id)s, %(meter_no)s, %(on)s, %(meter)s, %(by)s) RETURNING reading_id
