-- :depots  with their crew hours and bays by weekday
SELECT depot_id, name, hours, bays, zone FROM depot ORDER BY name

-- :units_of_depots  how many units in service each depot has
SELECT depot_id, count(*) AS n FROM unit WHERE state = 'in_service' GROUP BY 1

-- :set_week  of one depot
UPDATE depot SET hours = %(hours)s, bays = %(bays)s WHERE depot_id = %(depot_id)s RETURNING name

-- :set_zone  of one depot; NULL: the fleet's
UPDATE depot d SET zone = %(zone)s FROM (SELECT depot_id, zone FROM depot WHERE depot_id = %(depot_id)s FOR UPDATE) was
WHERE d.depot_id = was.depot_id RETURNING d.name, was.zone AS was

-- :depot_days  days that are different, in a span
SELECT depot_id, on_day, hours, bays, why FROM depot_day WHERE on_day BETWEEN %(first)s AND %(last)s ORDER BY on_day, depot_id

-- :put_depot_day  a holiday, or a day with more
INSERT INTO depot_day (fleet_id, depot_id, on_day, hours, bays, why)
SELECT %(fleet_id)s, d.depot_id, %(on_day)s, %(hours)s, %(bays)s, %(why)s FROM depot d
WHERE %(depot_id)s::bigint IS NULL OR d.depot_id = %(depot_id)s
ON CONFLICT (fleet_id, depot_id, on_day) DO UPDATE SET hours = excluded.hours, bays = excluded.bays, why = excluded.why

-- :drop_depot_day  the weekday holds again
DELETE FROM depot_day WHERE depot_id = %(depot_id)s AND on_day = %(on_day)s

-- :settings  hours by kind of work, what a visit is worth
SELECT weeks FROM fleet WHERE fleet_id = %(fleet_id)s

-- :put_settings  of the weeks
UPDATE fleet SET weeks = %(weeks)s WHERE fleet_id = %(fleet_id)s

-- :rotas  of units that are not always there
SELECT r.unit_id, u.name AS unit, d.name AS depot, r.rule, r.set_by, r.set_at FROM rota r JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN depot d USING (fleet_id, depot_id) WHERE %(unit_id)s::bigint IS NULL OR r.unit_id = %(unit_id)s ORDER BY u.name

-- :put_rota  of one unit
INSERT INTO rota (fleet_id, unit_id, rule, set_by) VALUES (%(fleet_id)s, %(unit_id)s, %(rule)s, %(by)s)
ON CONFLICT (fleet_id, unit_id) DO UPDATE SET rule = excluded.rule, set_by = excluded.set_by, set_at = now()

-- :drop_rota  it is always there again
DELETE FROM rota WHERE unit_id = %(unit_id)s RETURNING unit_id

-- :took  what visits that are done took, and how much of each kind of work was done in them
SELECT v.visit_id, v.took_h, (SELECT jsonb_object_agg(k.kind, k.n) FROM (
    SELECT CASE WHEN t.key LIKE 'drain:%%' THEN coalesce(c.kind, 'other') WHEN t.key LIKE 'item:%%' THEN 'item'
                WHEN t.key LIKE 'bottle:%%' OR t.what LIKE 'Bottle%%' THEN 'bottle' ELSE 'look' END AS kind, count(*) AS n
    FROM visit_task t LEFT JOIN compartment c ON c.fleet_id = t.fleet_id AND c.compartment_id = t.compartment_id
    WHERE t.fleet_id = v.fleet_id AND t.visit_id = v.visit_id GROUP BY 1) k) AS planned
FROM visit v WHERE v.state = 'done' AND v.took_h IS NOT NULL ORDER BY v.done_on DESC LIMIT 400

-- :drains  where the oil of every compartment in service stands, for when it is to be drained
SELECT c.compartment_id, c.unit_id, u.name AS unit, c.name AS compartment, c.kind, c.family, c.counts, u.depot_id, u.facts AS unit_facts, c.cap_meter,
       c.capacity_l, c.system_volume_l, s.due_day, s.due_first, s.due_last, s.due_driver, s.oil_hours, s.meter_day, s.rate_per_day,
       s.interval_meter, s.life, s.headroom_is_safe, s.to_due,
       headroom_now(s.urgency, s.open_faults, s.headroom, s.headroom_as_is) AS headroom_now, s.charges -> -1 -> 0 AS fill_day,
       (SELECT value::integer FROM in_force i WHERE i.fleet_id = c.fleet_id AND i.compartment_id = c.compartment_id AND i.fact = 'calendar'
          AND i.state IN ('stands', 'stood') AND i.from_day <= s.as_of AND (i.until_day IS NULL OR i.until_day > s.as_of)) AS interval_days,
       c.facts, coalesce(oil.facts, usual.facts) AS oil_facts
FROM standing s JOIN compartment c USING (fleet_id, compartment_id)
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN oil usual ON usual.fleet_id = c.fleet_id AND usual.oil_id = c.oil_id
LEFT JOIN LATERAL (SELECT o.facts FROM drain d JOIN oil o USING (fleet_id, oil_id) WHERE d.fleet_id = c.fleet_id AND d.compartment_id = c.compartment_id
                   AND d.superseded_by IS NULL ORDER BY d.on_day DESC LIMIT 1) oil ON true
WHERE u.state = 'in_service' AND (%(only)s::bigint[] IS NULL OR c.compartment_id = ANY(%(only)s))

-- :items  service items that come due in a span
SELECT i.item_id, i.unit_id, u.name AS unit, i.compartment_id, c.name AS compartment, i.name AS item, u.depot_id, u.facts AS unit_facts, i.due_day, i.due_first,
       i.due_last, i.driver, i.every_days, i.every_meter, i.facts, s.rate_per_day
FROM service_item i JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN compartment c ON c.fleet_id = i.fleet_id AND c.compartment_id = i.compartment_id
LEFT JOIN LATERAL (SELECT max(rate_per_day) AS rate_per_day FROM standing s JOIN compartment x USING (fleet_id, compartment_id)
                   WHERE x.fleet_id = i.fleet_id AND x.unit_id = i.unit_id) s ON true
WHERE u.state = 'in_service' AND i.due_day <= %(until)s AND (%(only)s::bigint[] IS NULL OR i.item_id = ANY(%(only)s))

-- :bottles  of trials that run
SELECT c.compartment_id, c.unit_id, u.name AS unit, c.name AS compartment, u.depot_id, t.next_day, t.length, s.rate_per_day, s.due_day
FROM trial t JOIN standing s USING (fleet_id, compartment_id) JOIN compartment c ON c.fleet_id = t.fleet_id AND c.compartment_id = t.compartment_id
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE t.state = 'running' AND t.next_day <= %(until)s AND u.state = 'in_service'

-- :asked  what signed verdicts ask for, and what was put off
SELECT 'action:' || a.action_id AS key, a.compartment_id, c.unit_id, u.name AS unit, c.name AS compartment, u.depot_id, a.what, a.due_on,
       a.kind = 'resample' AS bottle
FROM action a JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE a.closed_at IS NULL AND u.state = 'in_service' AND (a.due_on IS NULL OR a.due_on <= %(until)s)
UNION ALL
SELECT 'look:' || x.deferred_id, x.compartment_id, x.unit_id, u.name, c.name, u.depot_id, x.what, x.due_on, false
FROM deferred x JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN compartment c ON c.fleet_id = x.fleet_id AND c.compartment_id = x.compartment_id
WHERE x.closed_at IS NULL AND u.state = 'in_service' AND (x.due_on IS NULL OR x.due_on <= %(until)s)

-- :undated  drains and items that no day can be told for, and why
SELECT c.compartment_id, u.unit_id, u.name AS unit, c.name AS compartment,
       CASE WHEN s.interval_meter IS NULL AND s.due_day IS NULL THEN 'no interval' WHEN s.meter_day IS NULL THEN 'no readings'
            ELSE 'its meter stands still' END AS why
FROM standing s JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE u.state = 'in_service' AND s.due_day IS NULL ORDER BY u.name, c.compartment_id LIMIT 200

-- :visits  of a span of days, with what each is for; cancelled ones are left out
SELECT v.visit_id, v.uid, v.sequence, v.unit_id, u.name AS unit, v.depot_id, d.name AS depot, v.on_day, v.hours, v.state, v.fixed, v.job_id, v.done_on,
       v.took_h, v.note, v.short, v.made_on, v.first_on, v.changed_at, v.changed_by, j.state AS job_state,
       (SELECT jsonb_agg(jsonb_build_object('key', t.key, 'what', t.what, 'compartment_id', t.compartment_id, 'item_id', t.item_id,
            'hours', t.hours, 'due', t.due_day, 'earliest', t.earliest, 'latest', t.latest, 'worth', t.worth_h, 'life_days', t.life_days,
            'litres', t.litres, 'share_due', t.share_due, 'done_on', t.done_on) ORDER BY t.due_day, t.key)
        FROM visit_task t WHERE t.fleet_id = v.fleet_id AND t.visit_id = v.visit_id) AS tasks
FROM visit v JOIN unit u USING (fleet_id, unit_id) LEFT JOIN depot d ON d.fleet_id = v.fleet_id AND d.depot_id = v.depot_id
LEFT JOIN job j ON j.fleet_id = v.fleet_id AND j.job_id = v.job_id
WHERE v.state <> 'cancelled' AND (%(visit_id)s::bigint IS NULL AND v.on_day BETWEEN %(first)s AND %(last)s OR v.visit_id = %(visit_id)s)
  AND (%(depot_id)s::bigint IS NULL OR v.depot_id = %(depot_id)s)
ORDER BY v.on_day, u.name, v.visit_id

-- :planned  every visit that is still to come, or was not made
SELECT v.visit_id, v.unit_id, v.depot_id, v.on_day, v.hours, v.fixed, v.job_id, j.state AS job_state,
       (SELECT array_agg(t.key ORDER BY t.key) FROM visit_task t WHERE t.fleet_id = v.fleet_id AND t.visit_id = v.visit_id AND t.done_on IS NULL)
           AS keys
FROM visit v LEFT JOIN job j ON j.fleet_id = v.fleet_id AND j.job_id = v.job_id WHERE v.state = 'planned' ORDER BY v.visit_id

-- :lock_plan  two who plan at one time take turns
SELECT pg_advisory_xact_lock(hashtext('weeks'), %(fleet_id)s)

-- :put_visit  a new one
INSERT INTO visit (fleet_id, unit_id, depot_id, on_day, hours, made_on, first_on, made_by, changed_by)
VALUES (%(fleet_id)s, %(unit_id)s, %(depot_id)s, %(on_day)s, %(hours)s, %(made_on)s, %(on_day)s, %(by)s, %(by)s) RETURNING visit_id

-- :change_visit  its day or its length; calendars are told by its sequence
UPDATE visit SET on_day = %(on_day)s, hours = %(hours)s, depot_id = %(depot_id)s, sequence = sequence + 1, changed_at = now(), changed_by = %(by)s
WHERE visit_id = %(visit_id)s

-- :drop_tasks  of a visit, those that are not done
DELETE FROM visit_task WHERE visit_id = %(visit_id)s AND done_on IS NULL

-- :drop_some_tasks  what is done in another visit now
DELETE FROM visit_task WHERE visit_id = %(visit_id)s AND key = ANY(%(keys)s) AND done_on IS NULL

-- :put_task  of a visit
INSERT INTO visit_task (fleet_id, visit_id, key, what, compartment_id, item_id, hours, due_day, earliest, latest, worth_h, life_days, litres, share_due)
VALUES (%(fleet_id)s, %(visit_id)s, %(key)s, %(what)s, %(compartment_id)s, %(item_id)s, %(hours)s, %(due)s, %(earliest)s, %(latest)s, %(worth)s,
        %(life_days)s, %(litres)s, %(share_due)s)
ON CONFLICT (fleet_id, visit_id, key) DO NOTHING

-- :end_visit  it is not made
UPDATE visit SET state = 'cancelled', sequence = sequence + 1, changed_at = now(), changed_by = %(by)s, note = %(note)s
WHERE visit_id = %(visit_id)s AND state = 'planned' RETURNING unit_id, job_id

-- :fix_visit  its day is a person's
UPDATE visit SET fixed = %(fixed)s, changed_at = now(), changed_by = %(by)s WHERE visit_id = %(visit_id)s AND state = 'planned' RETURNING unit_id

-- :set_job  the card that a visit is done by
UPDATE visit SET job_id = %(job_id)s, changed_at = now(), changed_by = %(by)s WHERE visit_id = %(visit_id)s

-- :move_job  a card goes with its visit
UPDATE job SET planned_on = %(on_day)s WHERE job_id = %(job_id)s AND state IN ('planned', 'open')

-- :set_took  how long it took, as somebody says
UPDATE visit SET took_h = %(hours)s, changed_at = now(), changed_by = %(by)s WHERE visit_id = %(visit_id)s AND state = 'done' RETURNING unit_id

-- :free_of_cards  a visit whose card was taken back is planned as before
UPDATE visit v SET job_id = NULL FROM job j WHERE j.fleet_id = v.fleet_id AND j.job_id = v.job_id AND j.state = 'cancelled' AND v.state = 'planned'

-- :tasks_done  what visits are for and was done since they were planned, by whichever way it came on record
UPDATE visit_task d SET done_on = x.on_day
FROM (
    SELECT t.fleet_id, t.visit_id, t.key, CASE split_part(t.key, ':', 1)
        WHEN 'drain' THEN (SELECT min(d.on_day) FROM drain d WHERE d.fleet_id = t.fleet_id AND d.compartment_id = t.compartment_id
                           AND d.superseded_by IS NULL AND d.on_day >= v.made_on AND d.recorded_at >= v.made_at)
        WHEN 'bottle' THEN (SELECT min(b.drawn_on) FROM bottle b WHERE b.fleet_id = t.fleet_id AND b.compartment_id = t.compartment_id
                           AND b.drawn_on >= v.made_on AND b.recorded_at >= v.made_at)
        WHEN 'item' THEN (SELECT min(r.on_day) FROM service_record r WHERE r.fleet_id = t.fleet_id AND r.item_id = t.item_id
                           AND r.superseded_by IS NULL AND r.outcome = 'done' AND r.on_day >= v.made_on AND r.recorded_at >= v.made_at)
        WHEN 'action' THEN (SELECT greatest(v.made_on, least(a.closed_at::date, %(today)s)) FROM action a WHERE a.fleet_id = t.fleet_id
                           AND a.action_id = split_part(t.key, ':', 2)::bigint AND a.closed_at IS NOT NULL)
        WHEN 'look' THEN (SELECT greatest(v.made_on, least(a.closed_at::date, %(today)s)) FROM deferred a WHERE a.fleet_id = t.fleet_id
                           AND a.deferred_id = split_part(t.key, ':', 2)::bigint AND a.closed_at IS NOT NULL)
    END AS on_day
    FROM visit_task t JOIN visit v USING (fleet_id, visit_id)
    WHERE v.state = 'planned' AND t.done_on IS NULL
      AND (%(units)s::bigint[] IS NULL OR v.unit_id = ANY(%(units)s) OR t.key LIKE 'action:%%' OR t.key LIKE 'look:%%'
           OR v.unit_id IN (SELECT unit_id FROM compartment WHERE compartment_id = ANY(%(compartments)s::bigint[])))) x
WHERE d.fleet_id = x.fleet_id AND d.visit_id = x.visit_id AND d.key = x.key AND x.on_day IS NOT NULL

-- :tasks_undone  what was done and was taken back since: the visit that was made of it is planned again, its card apart
WITH undone AS (
    UPDATE visit_task t SET done_on = NULL FROM visit v
    WHERE v.fleet_id = t.fleet_id AND v.visit_id = t.visit_id AND t.done_on IS NOT NULL AND v.state IN ('planned', 'done')
      AND (t.key LIKE 'drain:%%' AND t.compartment_id = ANY(%(compartments)s::bigint[]) AND NOT EXISTS (
               SELECT 1 FROM drain d WHERE d.fleet_id = t.fleet_id AND d.compartment_id = t.compartment_id AND d.superseded_by IS NULL
                 AND d.on_day >= v.made_on AND d.recorded_at >= v.made_at)
           AND EXISTS (SELECT 1 FROM drain d WHERE d.fleet_id = t.fleet_id AND d.compartment_id = t.compartment_id
                 AND d.superseded_by IS NOT NULL AND d.on_day = t.done_on)
        OR t.key LIKE 'item:%%' AND v.unit_id = ANY(%(units)s::bigint[]) AND NOT EXISTS (
               SELECT 1 FROM service_record r WHERE r.fleet_id = t.fleet_id AND r.item_id = t.item_id AND r.superseded_by IS NULL
                 AND r.outcome = 'done' AND r.on_day >= v.made_on AND r.recorded_at >= v.made_at)
           AND EXISTS (SELECT 1 FROM service_record r WHERE r.fleet_id = t.fleet_id AND r.item_id = t.item_id
                 AND r.superseded_by IS NOT NULL AND r.on_day = t.done_on))
    RETURNING t.fleet_id, t.visit_id)
UPDATE visit v SET state = 'planned', done_on = NULL, took_h = NULL, sequence = sequence + 1, changed_at = now(), changed_by = 'taken back',
       job_id = CASE WHEN EXISTS (SELECT 1 FROM job j WHERE j.fleet_id = v.fleet_id AND j.job_id = v.job_id
                                  AND j.state IN ('done', 'part', 'stopped')) THEN NULL ELSE v.job_id END
FROM (SELECT DISTINCT fleet_id, visit_id FROM undone) u WHERE u.fleet_id = v.fleet_id AND u.visit_id = v.visit_id

-- :visits_done  those of which nothing is left to do, and those whose card is closed
UPDATE visit v SET state = 'done', sequence = sequence + 1, changed_at = now(), changed_by = 'done',
       done_on = coalesce((SELECT max(t.done_on) FROM visit_task t WHERE t.fleet_id = v.fleet_id AND t.visit_id = v.visit_id), %(today)s),
       took_h = coalesce(v.took_h, (SELECT CASE WHEN h BETWEEN 0.1 AND 14 THEN round(h::numeric, 2)::double precision END FROM (
           SELECT extract(epoch FROM max(e.at) - min(e.at)) / 3600 AS h FROM job_entry e
           WHERE e.fleet_id = v.fleet_id AND e.job_id = v.job_id) x))
WHERE v.state = 'planned'
  AND (NOT EXISTS (SELECT 1 FROM visit_task t WHERE t.fleet_id = v.fleet_id AND t.visit_id = v.visit_id AND t.done_on IS NULL)
    OR EXISTS (SELECT 1 FROM job j WHERE j.fleet_id = v.fleet_id AND j.job_id = v.job_id AND j.state IN ('done', 'part', 'stopped')))

-- :next_visits  the next visit of some units, or of one compartment
SELECT DISTINCT ON (v.unit_id) v.unit_id, v.visit_id, v.on_day, d.name AS depot, v.job_id, v.fixed
FROM visit v LEFT JOIN depot d USING (fleet_id, depot_id)
WHERE v.state = 'planned' AND v.unit_id = ANY(%(units)s) ORDER BY v.unit_id, v.on_day

-- :next_by_key  the next visit for each of some things
SELECT DISTINCT ON (t.key) t.key, v.visit_id, v.on_day, d.name AS depot, v.job_id, v.fixed
FROM visit_task t JOIN visit v USING (fleet_id, visit_id) LEFT JOIN depot d USING (fleet_id, depot_id)
WHERE t.key = ANY(%(keys)s) AND t.done_on IS NULL AND v.state = 'planned' ORDER BY t.key, v.on_day

-- :begin_proposal  asked for; a worker works it out
INSERT INTO proposal (fleet_id, first_day, days, asked_by) VALUES (%(fleet_id)s, %(first_day)s, %(days)s, %(by)s) RETURNING proposal_id

-- :drop_proposals  whatever waits
UPDATE proposal SET state = 'dropped', ended_by = %(by)s WHERE state IN ('working', 'ready')

-- :proposal  one, or the one that stands
SELECT proposal_id, first_day, days, state, progress, asked_by, asked_at, plan, ended_by FROM proposal
WHERE (%(proposal_id)s::bigint IS NULL AND state IN ('working', 'ready', 'failed') OR proposal_id = %(proposal_id)s)
ORDER BY proposal_id DESC LIMIT 1

-- :placeless  what the plan that was taken last had no day for, and nobody has put anywhere since; most urgent first
WITH met AS (
    SELECT k.placeless_id FROM (SELECT placeless_id, made_at, unnest(keys) AS key FROM placeless) k JOIN visit_task t ON t.key = k.key
    JOIN visit v ON v.fleet_id = t.fleet_id AND v.visit_id = t.visit_id WHERE v.state = 'planned' OR t.done_on >= k.made_at::date)
SELECT p.unit_id, u.name AS unit, p.keys, p.what, p.latest, p.why, p.way, count(*) OVER () AS total
FROM placeless p JOIN unit u USING (fleet_id, unit_id)
WHERE p.placeless_id NOT IN (SELECT placeless_id FROM met)
ORDER BY p.latest, u.name LIMIT %(limit)s

-- :placeless_done  drained since without a visit
DELETE FROM placeless p USING drain d
WHERE d.compartment_id = ANY(%(compartments)s::bigint[]) AND d.fleet_id = p.fleet_id AND d.superseded_by IS NULL AND d.recorded_at > p.made_at
  AND 'drain:' || d.compartment_id = ANY(p.keys)

-- :drop_placeless  another plan was taken
DELETE FROM placeless

-- :put_placeless  without a day
INSERT INTO placeless (fleet_id, unit_id, keys, what, latest, why, way)
VALUES (%(fleet_id)s, %(unit_id)s, %(keys)s, %(what)s, %(latest)s, %(why)s, %(way)s)

-- :proposal_progress  what a worker is at
UPDATE proposal SET progress = %(progress)s WHERE proposal_id = %(proposal_id)s AND state = 'working'

-- :proposal_ready  worked out, or failed
UPDATE proposal SET state = %(state)s, progress = %(progress)s, plan = %(plan)s WHERE proposal_id = %(proposal_id)s AND state = 'working'

-- :proposal_ended  accepted or dropped
UPDATE proposal SET state = %(state)s, ended_by = %(by)s WHERE proposal_id = %(proposal_id)s AND state = 'ready' RETURNING proposal_id

-- :band  the days that a drain may be due on
UPDATE standing s SET due_first = x.first, due_last = x.last
FROM unnest(%(ids)s::bigint[], %(first)s::date[], %(last)s::date[]) AS x(id, first, last)
WHERE s.compartment_id = x.id AND (s.due_first, s.due_last) IS DISTINCT FROM (x.first, x.last)

-- :band_of_items  the same of service items
UPDATE service_item s SET due_first = x.first, due_last = x.last
FROM unnest(%(ids)s::bigint[], %(first)s::date[], %(last)s::date[]) AS x(id, first, last)
WHERE s.item_id = x.id AND (s.due_first, s.due_last) IS DISTINCT FROM (x.first, x.last)

-- :due_by_meter  drains and items that a meter drives, of some units or all
SELECT 'drain' AS what, s.compartment_id AS id, c.unit_id * 2 + c.meter_no - 1 AS meter_id, s.due_meter, s.due_day, s.due_driver AS driver
FROM standing s JOIN compartment c USING (fleet_id, compartment_id)
WHERE %(units)s::bigint[] IS NULL OR c.unit_id = ANY(%(units)s)
UNION ALL
SELECT 'item', i.item_id, i.unit_id * 2 + coalesce(c.meter_no, 1) - 1, i.due_meter, i.due_day, i.driver
FROM service_item i LEFT JOIN compartment c ON c.fleet_id = i.fleet_id AND c.compartment_id = i.compartment_id
WHERE %(units)s::bigint[] IS NULL OR i.unit_id = ANY(%(units)s)

-- :meter_points  the newest figures of some units' meters
SELECT meter_id, on_day, meter FROM (
    SELECT meter_id, on_day, meter, row_number() OVER (PARTITION BY meter_id ORDER BY on_day DESC, meter DESC) AS nth FROM (
        SELECT unit_id, unit_id * 2 + meter_no - 1 AS meter_id, on_day, meter FROM meter_reading
        WHERE superseded_by IS NULL AND on_day <= %(today)s
        UNION ALL
        SELECT c.unit_id, c.unit_id * 2 + c.meter_no - 1, d.on_day, d.meter FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
        WHERE d.superseded_by IS NULL AND d.on_day <= %(today)s) m
    WHERE %(units)s::bigint[] IS NULL OR unit_id = ANY(%(units)s)) x
WHERE nth <= 60 ORDER BY meter_id, on_day, meter

-- :done_between  visits planned for or done in a span, for what was planned against what was done
SELECT v.visit_id, v.unit_id, u.name AS unit, d.name AS depot, v.first_on, v.on_day, v.state, v.done_on, v.hours, v.took_h, v.note, v.job_id,
       t.key, t.what, t.compartment_id, t.due_day, t.latest, t.done_on AS task_done_on, t.litres, t.worth_h, t.life_days, t.share_due
FROM visit v JOIN visit_task t USING (fleet_id, visit_id) JOIN unit u ON u.fleet_id = v.fleet_id AND u.unit_id = v.unit_id
LEFT JOIN depot d ON d.fleet_id = v.fleet_id AND d.depot_id = v.depot_id
WHERE v.state <> 'cancelled' AND (v.first_on BETWEEN %(since)s AND %(until)s OR v.done_on BETWEEN %(since)s AND %(until)s)
ORDER BY v.first_on, u.name, t.key

-- :put_feed  its secret's hash alone
INSERT INTO feed (fleet_id, secret_hash, depot_id, account_id, made_by)
VALUES (%(fleet_id)s, %(hash)s, %(depot_id)s, %(account_id)s, %(by)s) RETURNING feed_id

-- :feeds  those that have not been taken back
SELECT f.feed_id, f.depot_id, d.name AS depot, f.account_id, a.display_name AS person, f.made_by, f.made_at, f.read_at
FROM feed f LEFT JOIN depot d ON d.fleet_id = f.fleet_id AND d.depot_id = f.depot_id LEFT JOIN account a ON a.account_id = f.account_id
WHERE f.revoked_at IS NULL AND (%(account_id)s::integer IS NULL OR f.account_id = %(account_id)s) ORDER BY f.feed_id

-- :revoke_feed  its link opens nothing any more
UPDATE feed SET revoked_at = now() WHERE feed_id = %(feed_id)s AND revoked_at IS NULL
  AND (%(account_id)s::integer IS NULL OR account_id = %(account_id)s) RETURNING feed_id

-- :feed_of  asked before anybody is known
SELECT fleet_id, feed_id FROM feed_of(%(hash)s)

-- :feed  what it is for
SELECT f.depot_id, f.account_id, c.depots FROM feed f LEFT JOIN contact c ON c.fleet_id = f.fleet_id AND c.account_id = f.account_id
WHERE f.feed_id = %(feed_id)s

-- :feed_read  when somebody last did
UPDATE feed SET read_at = now() WHERE feed_id = %(feed_id)s

-- :calendar  visits of some depots, cancelled ones too: whoever took them down must hear of it
SELECT v.uid, v.sequence, v.unit_id, u.name AS unit, d.name AS depot, v.on_day, v.hours, v.state, v.changed_at, v.job_id,
       (SELECT array_agg(t.what ORDER BY t.due_day, t.key) FROM visit_task t WHERE t.fleet_id = v.fleet_id AND t.visit_id = v.visit_id) AS what
FROM visit v JOIN unit u USING (fleet_id, unit_id) LEFT JOIN depot d ON d.fleet_id = v.fleet_id AND d.depot_id = v.depot_id
WHERE v.on_day >= %(since)s AND (%(depots)s::bigint[] IS NULL OR v.depot_id = ANY(%(depots)s)) ORDER BY v.on_day, v.visit_id LIMIT 5000

-- :contacts  who is written to
SELECT c.account_id, a.display_name AS name, c.address, c.depots, c.week_day, c.week_hour, c.stops FROM contact c JOIN account a USING (account_id)
WHERE %(account_id)s::integer IS NULL OR c.account_id = %(account_id)s ORDER BY a.display_name

-- :put_contact  one's own
INSERT INTO contact (fleet_id, account_id, address, depots, week_day, week_hour, stops)
VALUES (%(fleet_id)s, %(account_id)s, %(address)s, %(depots)s, %(week_day)s, %(week_hour)s, %(stops)s)
ON CONFLICT (fleet_id, account_id) DO UPDATE SET address = excluded.address, depots = excluded.depots, week_day = excluded.week_day,
    week_hour = excluded.week_hour, stops = excluded.stops

-- :drop_contact  nothing is sent any more
DELETE FROM contact WHERE account_id = %(account_id)s RETURNING account_id

-- :put_mail  written once
INSERT INTO mail (fleet_id, about, to_address, subject, plain, html, file_name, file)
VALUES (%(fleet_id)s, %(about)s, %(to)s, %(subject)s, %(plain)s, %(html)s, %(file_name)s, %(file)s)
ON CONFLICT (fleet_id, about) DO NOTHING RETURNING mail_id

-- :mail_written  whether something was written about
SELECT 1 FROM mail WHERE about = %(about)s

-- :mail_to_send  what waits, oldest first; whoever takes it keeps it until it is sent
SELECT mail_id, to_address, subject, plain, html, file_name, file, tries FROM mail
WHERE sent_at IS NULL AND next_try_at <= now() AND tries < %(most)s ORDER BY mail_id LIMIT 50 FOR UPDATE SKIP LOCKED

-- :mail_sent  it is with the server
UPDATE mail SET sent_at = now(), tries = tries + 1, trouble = '' WHERE mail_id = %(mail_id)s

-- :mail_failed  to be tried again
UPDATE mail SET tries = tries + 1, trouble = %(trouble)s, next_try_at = now() + make_interval(mins => least(5 * (1 << least(tries, 6)), 240))
WHERE mail_id = %(mail_id)s

-- :mails  what was written lately
SELECT mail_id, about, to_address, subject, made_at, tries, trouble, sent_at FROM mail ORDER BY mail_id DESC LIMIT 40

-- :fleets_with_contacts  asked before a fleet is known
SELECT fleet_id FROM fleets_with_contacts()

-- :stops_to_tell  stops that nobody has heard, with their depot, and trials that stopped and nobody has taken note of
SELECT 'stop ' || x.last_sample_id AS about, x.compartment_id, u.depot_id, u.name AS unit, c.name AS compartment, x.last_sampled_on AS on_day, '' AS words,
       (SELECT e.hypotheses -> 0 ->> 'key' FROM evaluation e WHERE e.fleet_id = x.fleet_id AND e.sample_id = x.last_sample_id) AS cause
FROM standing x JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE x.urgency = 0 AND NOT EXISTS (SELECT 1 FROM stop_heard h WHERE h.fleet_id = x.fleet_id AND h.sample_id = x.last_sample_id)
UNION ALL
SELECT 'trial ' || t.trial_id, t.compartment_id, u.depot_id, u.name, c.name, t.ended_on, t.ending, NULL
FROM trial t JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE t.state = 'stopped' AND t.seen_by IS NULL
UNION ALL
SELECT 'job ' || x.deferred_id, x.compartment_id, u.depot_id, u.name, coalesce(c.name, ''), x.made_at::date, x.what, NULL
FROM deferred x JOIN unit u ON u.fleet_id = x.fleet_id AND u.unit_id = x.unit_id
LEFT JOIN compartment c ON c.fleet_id = x.fleet_id AND c.compartment_id = x.compartment_id
WHERE x.kind = 'stopped' AND x.closed_at IS NULL

-- :last_mail_about  when something was last written to somebody about it
SELECT max(made_at) AS at, count(*) AS n FROM mail WHERE about LIKE %(about)s

-- :stock  what each depot has of what somebody counts there: the last count, and what came and went since
SELECT m.depot_id, d.name AS depot, m.thing, sum(CASE m.kind WHEN 'used' THEN -m.amount ELSE m.amount END) AS there,
       max(m.on_day) FILTER (WHERE m.kind = 'counted') AS counted_on
FROM stock_move m JOIN depot d USING (fleet_id, depot_id)
WHERE m.move_id >= coalesce((SELECT max(k.move_id) FROM stock_move k WHERE k.fleet_id = m.fleet_id AND k.depot_id = m.depot_id
                             AND k.thing = m.thing AND k.kind = 'counted'), 0)
GROUP BY 1, 2, 3 ORDER BY d.name, m.thing

-- :stock_things  how long each takes to come, and the least to have
SELECT thing, lead_days, least FROM stock_thing ORDER BY thing

-- :put_stock_thing  of a thing
INSERT INTO stock_thing (fleet_id, thing, lead_days, least) VALUES (%(fleet_id)s, %(thing)s, %(lead_days)s, %(least)s)
ON CONFLICT (fleet_id, thing) DO UPDATE SET lead_days = excluded.lead_days, least = excluded.least

-- :put_move  counted, received or used; a part of a job uses a thing once
INSERT INTO stock_move (fleet_id, depot_id, thing, kind, amount, on_day, part_id, note, recorded_by)
VALUES (%(fleet_id)s, %(depot_id)s, %(thing)s, %(kind)s, %(amount)s, %(on_day)s, %(part_id)s, %(note)s, %(by)s)
ON CONFLICT (fleet_id, part_id, thing) WHERE part_id IS NOT NULL DO NOTHING

-- :counted_there  whether a depot counts a thing
SELECT 1 FROM stock_move WHERE depot_id = %(depot_id)s AND thing = %(thing)s LIMIT 1

-- :new_batches  deliveries of oil that no bottle was drawn from
SELECT o.oil_id, o.name AS oil, b.batch, b.received_on FROM oil_batch b JOIN oil o USING (fleet_id, oil_id)
WHERE coalesce(b.sample_no, '') = '' AND b.received_on > %(since)s ORDER BY b.received_on DESC LIMIT 30

-- :unit_names  every unit by its name
SELECT unit_id, name FROM unit

-- :drains_lately  drains on record of a span, with how long their charge lasted
SELECT d.compartment_id, c.unit_id, c.name AS compartment, c.kind, u.depot_id, d.on_day, c.capacity_l AS litres,
       (SELECT d.on_day - max(b.on_day) FROM drain b WHERE b.fleet_id = d.fleet_id AND b.compartment_id = d.compartment_id
          AND b.superseded_by IS NULL AND b.on_day < d.on_day)::double precision AS life_days
FROM drain d JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE d.superseded_by IS NULL AND d.on_day BETWEEN %(since)s AND %(until)s ORDER BY d.on_day, d.compartment_id

-- :put_past_visit  one that was planned and made before Vornet planned
INSERT INTO visit (fleet_id, unit_id, depot_id, on_day, hours, state, made_on, first_on, done_on, took_h, made_by, changed_by)
VALUES (%(fleet_id)s, %(unit_id)s, %(depot_id)s, %(on_day)s, %(hours)s, 'done', %(first_on)s::date - 14, %(first_on)s, %(on_day)s, %(took)s,
        %(by)s, %(by)s) RETURNING visit_id

-- :task_was_done  all that a visit was for
UPDATE visit_task SET done_on = %(on_day)s WHERE visit_id = %(visit_id)s
