-- :put  what is said of an interval, once
INSERT INTO drain_interval (fleet_id, compartment_id, effective_from, meter, days, origin, approved_by, why, evidence, says_length,
                            says_calendar, said_on, oil_id, renewed_on, upholds, trial_id)
VALUES (%(fleet_id)s, %(compartment_id)s, %(effective_from)s, %(meter)s, %(days)s, %(origin)s, %(approved_by)s, %(why)s, %(evidence)s,
        %(says_length)s, %(says_calendar)s, %(said_on)s, %(oil_id)s, %(renewed_on)s, %(upholds)s, %(trial_id)s)

-- :said  everything said of some compartments' intervals, or of all, in the order it was said; of a trial the day its charge was drained
SELECT i.interval_id, i.compartment_id, i.effective_from, i.said_on, i.origin, i.meter, i.days, i.says_length, i.says_calendar, i.oil_id,
       i.renewed_on, i.upholds,
       (SELECT t.on_day FROM interval_turn t WHERE t.fleet_id = i.fleet_id AND t.interval_id = i.interval_id AND t.kind = 'begun') AS begun_on,
       (SELECT t.on_day FROM interval_turn t WHERE t.fleet_id = i.fleet_id AND t.interval_id = i.interval_id AND t.kind = 'withdrawn')
           AS withdrawn_on,
       CASE WHEN i.origin = 'trial' THEN (
           SELECT min(d.on_day) FROM drain d WHERE d.fleet_id = i.fleet_id AND d.compartment_id = i.compartment_id
             AND d.superseded_by IS NULL AND d.on_day > i.effective_from) END AS ends_on
FROM drain_interval i
WHERE %(compartments)s::bigint[] IS NULL OR i.compartment_id = ANY(%(compartments)s)
ORDER BY i.compartment_id, i.interval_id

-- :oils  from which day on which oil, of some compartments that have an interval on evidence: a drain without one poured the usual one
SELECT compartment_id, on_day, oil FROM (
    SELECT d.compartment_id, d.on_day, coalesce(d.oil_id, c.oil_id) AS oil,
           lag(coalesce(d.oil_id, c.oil_id)) OVER (PARTITION BY d.compartment_id ORDER BY d.on_day) AS before
    FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
    WHERE d.superseded_by IS NULL AND d.compartment_id = ANY(%(compartments)s)) x
WHERE oil IS NOT NULL AND oil IS DISTINCT FROM before
UNION ALL
SELECT c.compartment_id, '0001-01-01'::date, c.oil_id FROM compartment c
WHERE c.compartment_id = ANY(%(compartments)s) AND c.oil_id IS NOT NULL
  AND NOT EXISTS (SELECT 1 FROM drain d WHERE d.fleet_id = c.fleet_id AND d.compartment_id = c.compartment_id AND d.superseded_by IS NULL)
ORDER BY 1, 2

-- :renewals  days of overhauls and exchanges of some compartments
SELECT compartment_id, on_day FROM event
WHERE superseded_by IS NULL AND kind IN ('overhaul', 'component_exchange') AND compartment_id = ANY(%(compartments)s)
ORDER BY compartment_id, on_day

-- :kept  what was last worked of some compartments, or of all
SELECT compartment_id, fact, place, interval_id, origin, value, from_day, until_day, state, why, by_id, held_up, asked_on FROM in_force
WHERE %(compartments)s::bigint[] IS NULL OR compartment_id = ANY(%(compartments)s) ORDER BY compartment_id, fact, place

-- :forget  to be worked anew
DELETE FROM in_force WHERE compartment_id = ANY(%(compartments)s)

-- :keep  one span of a fact
INSERT INTO in_force (fleet_id, compartment_id, fact, place, interval_id, origin, value, from_day, until_day, state, why, by_id, held_up, asked_on)
VALUES (%(fleet_id)s, %(compartment_id)s, %(fact)s, %(place)s, %(interval_id)s, %(origin)s, %(value)s, %(from_day)s, %(until_day)s, %(state)s,
        %(why)s, %(by_id)s, %(held_up)s, %(asked_on)s)

-- :due  what waits and whose day has come, of some compartments
SELECT f.compartment_id, f.fact, f.interval_id, f.value, f.from_day, f.held_up, i.meter, i.days, i.says_length, i.says_calendar, i.approved_by
FROM in_force f JOIN drain_interval i USING (fleet_id, interval_id)
WHERE f.state = 'waits' AND f.from_day <= %(today)s AND f.compartment_id = ANY(%(compartments)s) ORDER BY f.interval_id

-- :begin  the guards let it
INSERT INTO interval_turn (fleet_id, interval_id, kind, on_day) VALUES (%(fleet_id)s, %(interval_id)s, 'begun', %(on)s) ON CONFLICT DO NOTHING

-- :hold_up  what stands against it, as it was asked today
UPDATE in_force SET held_up = %(held_up)s, asked_on = %(on)s WHERE compartment_id = %(compartment_id)s AND interval_id = %(interval_id)s AND state = 'waits'

-- :withdraw  a person takes it back before it begins
INSERT INTO interval_turn (fleet_id, interval_id, kind, on_day, by, why) VALUES (%(fleet_id)s, %(interval_id)s, 'withdrawn', %(on)s, %(by)s, %(why)s)
ON CONFLICT DO NOTHING

-- :waits_here  what waits of one compartment, and what begins by itself on a day to come
SELECT f.interval_id, f.fact, f.value, f.from_day, f.held_up, i.approved_by, i.said_on FROM in_force f JOIN drain_interval i USING (fleet_id, interval_id)
WHERE f.compartment_id = %(compartment_id)s AND (f.state = 'waits' OR f.state IN ('stands', 'stood') AND f.from_day > %(today)s)
ORDER BY f.from_day, f.interval_id, f.fact DESC

-- :held_up  approved lengths and calendar limits whose day has come and that something stands against, or that ended before they began lately
SELECT DISTINCT ON (f.compartment_id, f.interval_id) f.compartment_id, f.interval_id, f.fact, f.value, f.from_day, f.until_day, f.state, f.why, f.held_up,
       f.asked_on, i.approved_by, u.name AS unit, u.unit_id, c.name AS compartment, c.counts AS meter_unit, u.depot_id, d.name AS depot
FROM in_force f JOIN drain_interval i USING (fleet_id, interval_id)
JOIN compartment c ON c.fleet_id = f.fleet_id AND c.compartment_id = f.compartment_id
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
WHERE f.state = 'waits' AND f.from_day <= %(today)s AND f.held_up IS NOT NULL
  AND (%(units)s::bigint[] IS NULL OR u.unit_id = ANY(%(units)s))
ORDER BY f.compartment_id, f.interval_id, f.fact DESC

-- :course  the history of one compartment's interval: what stood when, on whose word, why it ended
SELECT f.fact, f.place, f.interval_id, f.origin, f.value, f.from_day, f.until_day, f.state, f.why, f.held_up, f.asked_on, i.approved_by, i.why AS reason,
       i.said_on, i.recorded_at, i.origin AS said_as, oil.name AS oil, (i.evidence ->> 'safe')::float8 AS safe,
       (i.evidence ->> 'proposed')::float8 AS proposed, (i.evidence ->> 'chance_at_approved')::float8 AS chance,
       b.approved_by AS ended_by, b.origin AS ended_as
FROM in_force f JOIN drain_interval i USING (fleet_id, interval_id)
LEFT JOIN drain_interval b ON b.fleet_id = f.fleet_id AND b.interval_id = f.by_id
LEFT JOIN oil ON oil.fleet_id = i.fleet_id AND oil.oil_id = i.oil_id
WHERE f.compartment_id = %(compartment_id)s ORDER BY f.fact DESC, f.from_day, f.place

-- :stood  lengths that stood, oldest first, of those compartments that ever had one approved
SELECT f.compartment_id, f.from_day AS effective_from, f.until_day, f.value AS meter, f.origin, i.approved_by, i.trial_id, t.state AS trial_state
FROM in_force f JOIN drain_interval i USING (fleet_id, interval_id)
LEFT JOIN trial t ON t.fleet_id = i.fleet_id AND t.trial_id = i.trial_id
WHERE f.compartment_id = ANY(%(compartments)s) AND f.fact = 'length' AND f.state IN ('stands', 'stood')
  AND (f.until_day IS NULL OR f.until_day > f.from_day) AND EXISTS (
    SELECT 1 FROM in_force a WHERE a.fleet_id = f.fleet_id AND a.compartment_id = f.compartment_id AND a.origin = 'approved'
      AND a.fact = 'length' AND a.state IN ('stands', 'stood'))
ORDER BY f.compartment_id, f.from_day, f.place

-- :said_of  what was said of one compartment, oldest first
SELECT interval_id, effective_from, meter, days, origin, approved_by, why, recorded_at, said_on, says_length, says_calendar FROM drain_interval
WHERE compartment_id = %(compartment_id)s ORDER BY effective_from, interval_id

-- :ground_of  the oil in use and the last overhaul of some compartments, by what is on record
SELECT c.compartment_id,
       coalesce((SELECT coalesce(d.oil_id, c.oil_id) FROM drain d WHERE d.fleet_id = c.fleet_id AND d.compartment_id = c.compartment_id
                 AND d.superseded_by IS NULL AND d.on_day <= %(today)s ORDER BY d.on_day DESC LIMIT 1), c.oil_id) AS oil_id,
       (SELECT max(e.on_day) FROM event e WHERE e.fleet_id = c.fleet_id AND e.compartment_id = c.compartment_id AND e.superseded_by IS NULL
          AND e.kind IN ('overhaul', 'component_exchange') AND e.on_day <= %(today)s) AS renewed_on
FROM compartment c WHERE c.compartment_id = ANY(%(compartments)s)

-- :register_said  what the register itself last said of each fact, and what stands today, of some compartments
SELECT c.compartment_id,
       (SELECT i.meter FROM drain_interval i WHERE i.fleet_id = c.fleet_id AND i.compartment_id = c.compartment_id AND i.says_length
          AND i.origin = 'register' ORDER BY i.interval_id DESC LIMIT 1) AS length_said,
       (SELECT i.days FROM drain_interval i WHERE i.fleet_id = c.fleet_id AND i.compartment_id = c.compartment_id AND i.says_calendar
          AND i.origin = 'register' ORDER BY i.interval_id DESC LIMIT 1) AS days_said,
       EXISTS (SELECT 1 FROM drain_interval i WHERE i.fleet_id = c.fleet_id AND i.compartment_id = c.compartment_id) AS known,
       l.value AS length, l.from_day AS since, l.origin, k.value::integer AS days
FROM compartment c
LEFT JOIN LATERAL (SELECT value, from_day, origin FROM in_force f WHERE f.fleet_id = c.fleet_id AND f.compartment_id = c.compartment_id AND f.fact = 'length'
                   AND f.state IN ('stands', 'stood') AND f.from_day <= %(today)s AND (f.until_day IS NULL OR f.until_day > %(today)s)
                   ORDER BY f.place DESC LIMIT 1) l ON true
LEFT JOIN LATERAL (SELECT value FROM in_force f WHERE f.fleet_id = c.fleet_id AND f.compartment_id = c.compartment_id AND f.fact = 'calendar'
                   AND f.state IN ('stands', 'stood') AND f.from_day <= %(today)s AND (f.until_day IS NULL OR f.until_day > %(today)s)
                   ORDER BY f.place DESC LIMIT 1) k ON true
WHERE c.compartment_id = ANY(%(compartments)s)
