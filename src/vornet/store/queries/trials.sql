-- :running  trials that run, of some compartments or all
SELECT trial_id, compartment_id, length, before, steps, started_on, started_by FROM trial
WHERE state = 'running' AND (%(compartments)s::bigint[] IS NULL OR compartment_id = ANY(%(compartments)s))

-- :waiting_bottles  drawn in the charge of a trial that runs, whose result is still to come
SELECT b.compartment_id, b.oil_hours FROM bottle b JOIN trial t USING (fleet_id, compartment_id)
WHERE t.state = 'running' AND b.lost_on IS NULL AND b.oil_hours IS NOT NULL AND b.compartment_id = ANY(%(compartments)s)
  AND NOT EXISTS (SELECT 1 FROM sample s WHERE s.fleet_id = b.fleet_id AND s.sample_no = b.sample_no AND s.superseded_by IS NULL)
  AND b.drawn_on > t.started_on - 400

-- :put  a trial that begins; nothing where another has begun in the same moment
INSERT INTO trial (fleet_id, compartment_id, rollout_id, length, before, steps, why, started_on, started_by, evidence)
VALUES (%(fleet_id)s, %(compartment_id)s, %(rollout_id)s, %(length)s, %(before)s, %(steps)s, %(why)s, %(on)s, %(by)s, %(evidence)s)
ON CONFLICT DO NOTHING RETURNING trial_id

-- :follow  how far it is, as an evaluation saw it
UPDATE trial SET progress = %(progress)s, next_at = %(next_at)s, next_day = %(next_day)s WHERE trial_id = %(trial_id)s

-- :end  how it ended; only one that runs
UPDATE trial SET state = %(state)s, ended_on = %(on)s, ended_by = %(by)s, ending = %(ending)s, next_at = NULL, next_day = NULL
WHERE trial_id = %(trial_id)s AND state = 'running' RETURNING trial_id

-- :seen  somebody has taken note that it stopped
UPDATE trial SET seen_by = %(by)s WHERE trial_id = %(trial_id)s AND state = 'stopped' AND seen_by IS NULL RETURNING trial_id

-- :list  trials of the fleet, of one compartment or one roll-out; what needs somebody first
SELECT t.trial_id, t.compartment_id, t.rollout_id, t.length, t.before, t.steps, t.why, t.started_on, t.started_by, t.state, t.progress,
       t.next_at, t.next_day, t.ended_on, t.ended_by, t.ending, t.seen_by, c.name AS compartment, c.family, c.counts AS meter_unit,
       u.name AS unit, u.unit_id, u.state AS unit_state, d.name AS depot, s.oil_hours, s.outcome, s.proposed_meter, s.interval_meter,
       (t.evidence ->> 'chance_at_approved')::double precision AS chance
FROM trial t JOIN compartment c USING (fleet_id, compartment_id)
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
LEFT JOIN standing s ON s.fleet_id = t.fleet_id AND s.compartment_id = t.compartment_id
WHERE (%(compartment_id)s::bigint IS NULL OR t.compartment_id = %(compartment_id)s)
  AND (%(rollout_id)s::bigint IS NULL OR t.rollout_id = %(rollout_id)s)
  AND (%(trial_id)s::bigint IS NULL OR t.trial_id = %(trial_id)s)
ORDER BY NOT (t.state = 'stopped' AND t.seen_by IS NULL), NOT (t.state = 'running' AND t.progress ->> 'word' IN ('ripe', 'unread')),
         t.state <> 'running', t.next_day NULLS LAST, t.trial_id DESC
LIMIT 500

-- :stopped  trials that a bottle stopped, which nobody has taken note of yet
SELECT t.trial_id, t.compartment_id, t.length, t.ended_on, t.ending, t.progress, u.name AS unit, u.unit_id, c.name AS compartment,
       c.counts AS meter_unit, s.interval_meter
FROM trial t JOIN compartment c USING (fleet_id, compartment_id)
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN standing s ON s.fleet_id = t.fleet_id AND s.compartment_id = t.compartment_id
WHERE t.state = 'stopped' AND t.seen_by IS NULL AND (%(unit_id)s::bigint IS NULL OR u.unit_id = %(unit_id)s)
ORDER BY t.ended_on DESC, t.trial_id DESC LIMIT 50

-- :put_rollout  a length that a family is to come to, tried on a few first
INSERT INTO rollout (fleet_id, family, length, why, started_on, started_by)
VALUES (%(fleet_id)s, %(family)s, %(length)s, %(why)s, %(on)s, %(by)s) RETURNING rollout_id

-- :rollouts  with how its trials stand
SELECT r.rollout_id, r.family, r.length, r.why, r.started_on, r.started_by, r.closed_on, r.closed_by, r.closing,
       (SELECT min(c.counts) FROM compartment c WHERE c.fleet_id = r.fleet_id AND c.family = r.family) AS meter_unit,
       (SELECT count(*) FROM compartment c WHERE c.fleet_id = r.fleet_id AND c.family = r.family) AS mates,
       count(t.trial_id) AS trials, count(*) FILTER (WHERE t.state = 'running') AS running,
       count(*) FILTER (WHERE t.state = 'adopted') AS adopted, count(*) FILTER (WHERE t.state IN ('stopped', 'fell_back')) AS failed
FROM rollout r LEFT JOIN trial t USING (fleet_id, rollout_id)
WHERE %(rollout_id)s::bigint IS NULL OR r.rollout_id = %(rollout_id)s
GROUP BY r.fleet_id, r.rollout_id ORDER BY r.closed_on IS NOT NULL, r.rollout_id DESC

-- :close_rollout  only once
UPDATE rollout SET closed_on = %(on)s, closed_by = %(by)s, closing = %(closing)s WHERE rollout_id = %(rollout_id)s AND closed_on IS NULL
RETURNING rollout_id

-- :family  the family's compartments with what each one's own decision says
SELECT c.compartment_id, u.name AS unit, u.unit_id, c.name AS compartment, c.counts AS meter_unit, d.name AS depot, c.cap_meter,
       s.interval_meter, s.outcome, s.proposed_meter, s.open_faults, s.oil_hours, s.rate_per_day, s.decision -> 'safe' AS safe,
       s.decision -> 'safe_as_is' AS safe_as_is, s.decision -> 'charges' AS charges, s.decision -> 'guards' AS guards,
       s.decision -> 'never' AS never, s.decision -> 'beyond_evidence' AS beyond_evidence, u.state AS unit_state, s.decision, s.held_word
FROM compartment c JOIN unit u USING (fleet_id, unit_id) LEFT JOIN depot d USING (fleet_id, depot_id)
LEFT JOIN standing s ON s.fleet_id = c.fleet_id AND s.compartment_id = c.compartment_id
WHERE c.family = %(family)s AND u.state = 'in_service' ORDER BY u.name, c.name

-- :families  families with more than one compartment, to choose a roll-out for
SELECT c.family, count(*) AS n, min(c.counts) AS meter_unit FROM compartment c JOIN unit u USING (fleet_id, unit_id)
WHERE c.family <> '' AND u.state = 'in_service' GROUP BY c.family HAVING count(*) > 1 ORDER BY c.family
