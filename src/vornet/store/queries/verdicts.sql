-- :queue  unsigned samples that can be judged, worst first, then oldest: what Review walks along
WITH unsigned AS MATERIALIZED (
    SELECT e.fleet_id, e.sample_id, e.proposed, e.sampled_on, e.hypotheses FROM evaluation e
    WHERE e.sampled_on > %(since)s AND e.sampled_on <= %(until)s
      AND NOT EXISTS (SELECT 1 FROM verdict v WHERE v.fleet_id = e.fleet_id AND v.sample_id = e.sample_id AND v.superseded_by IS NULL)
      AND NOT EXISTS (SELECT 1 FROM hold h WHERE h.fleet_id = e.fleet_id AND h.sample_id = e.sample_id
                      AND (h.settled_at IS NULL OR h.settlement = 'rejected'))
      AND EXISTS (SELECT 1 FROM sample s WHERE s.fleet_id = e.fleet_id AND s.sample_id = e.sample_id AND s.superseded_by IS NULL)
    ORDER BY e.proposed DESC, e.sampled_on, e.sample_id LIMIT %(limit)s
)
SELECT s.sample_id, s.sample_no, s.compartment_id, s.sampled_on, e.proposed, u.name AS unit, c.name AS compartment, c.kind,
       e.hypotheses -> 0 ->> 'key' AS cause, e.hypotheses -> 0 ->> 'strength' AS strength
FROM unsigned e JOIN sample s USING (fleet_id, sample_id)
JOIN compartment c ON c.fleet_id = s.fleet_id AND c.compartment_id = s.compartment_id
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
ORDER BY e.proposed DESC, e.sampled_on, e.sample_id

-- :waiting  how many, up to as many as Review walks along
-- (looked at one by one, so that it can stop there)
SELECT count(*) AS n FROM (
    SELECT 1 FROM evaluation e
    CROSS JOIN LATERAL (
        SELECT 1 WHERE NOT EXISTS (SELECT 1 FROM verdict v WHERE v.fleet_id = e.fleet_id AND v.sample_id = e.sample_id AND v.superseded_by IS NULL)
          AND NOT EXISTS (SELECT 1 FROM hold h WHERE h.fleet_id = e.fleet_id AND h.sample_id = e.sample_id
                          AND (h.settled_at IS NULL OR h.settlement = 'rejected'))
          AND EXISTS (SELECT 1 FROM sample s WHERE s.fleet_id = e.fleet_id AND s.sample_id = e.sample_id AND s.superseded_by IS NULL)
        OFFSET 0) waits
    WHERE e.sampled_on > %(since)s AND e.sampled_on <= %(until)s
    LIMIT %(most)s) unsigned

-- :judged  a sample's proposal as it stands
SELECT s.sample_id, s.sample_no, s.compartment_id, s.sampled_on, e.proposed, e.evidence, e.hypotheses, e.limit_set_id
FROM sample s JOIN evaluation e USING (fleet_id, sample_id)
WHERE s.sample_id = %(sample_id)s AND s.superseded_by IS NULL AND s.compartment_id IS NOT NULL

-- :held  nobody signs what is held
SELECT 1 FROM hold WHERE sample_id = %(sample_id)s AND settled_at IS NULL LIMIT 1

-- :sign  with everything it was signed on
INSERT INTO verdict (fleet_id, sample_id, compartment_id, verdict, proposed, hypotheses, evidence, limit_set_id, cause, comment,
                     reason, signed_by)
VALUES (%(fleet_id)s, %(sample_id)s, %(compartment_id)s, %(verdict)s, %(proposed)s, %(hypotheses)s, %(evidence)s, %(limit_set_id)s,
        %(cause)s, %(comment)s, %(reason)s, %(by)s)
RETURNING verdict_id

-- :current  locks it
SELECT verdict_id FROM verdict WHERE sample_id = %(sample_id)s AND superseded_by IS NULL FOR UPDATE

-- :supersede  the one before, kept
UPDATE verdict SET superseded_by = verdict_id WHERE verdict_id = %(verdict_id)s

-- :superseded_by  the one before points to the new one
UPDATE verdict SET superseded_by = %(by)s WHERE verdict_id = %(verdict_id)s

-- :sign_many  agree with every proposal drawn up to a day that nobody has signed
INSERT INTO verdict (fleet_id, sample_id, compartment_id, verdict, proposed, hypotheses, evidence, limit_set_id, signed_by, signed_at)
SELECT s.fleet_id, s.sample_id, s.compartment_id, e.proposed, e.proposed, e.hypotheses, e.evidence, e.limit_set_id, %(by)s,
       (coalesce(s.reported_on, s.sampled_on) + 1)::timestamptz
FROM sample s JOIN evaluation e USING (fleet_id, sample_id)
WHERE s.superseded_by IS NULL AND s.compartment_id IS NOT NULL AND s.sampled_on <= %(until)s AND e.proposed >= 0
  AND NOT EXISTS (SELECT 1 FROM verdict v WHERE v.fleet_id = s.fleet_id AND v.sample_id = s.sample_id AND v.superseded_by IS NULL)
  AND NOT EXISTS (SELECT 1 FROM hold h WHERE h.fleet_id = s.fleet_id AND h.sample_id = s.sample_id
                  AND (h.settled_at IS NULL OR h.settlement = 'rejected'))

-- :of_sample  every verdict of a sample, newest first
SELECT verdict_id, verdict, proposed, cause, comment, reason, signed_at, signed_by, superseded_by, limit_set_id
FROM verdict WHERE sample_id = %(sample_id)s ORDER BY verdict_id DESC

-- :signed  signed verdicts for core: sample → code
SELECT sample_id, verdict, proposed FROM verdict WHERE superseded_by IS NULL

-- :signed_of  the same for some compartments
SELECT sample_id, verdict, proposed FROM verdict WHERE superseded_by IS NULL AND compartment_id = ANY(%(compartments)s)

-- :open_action  what is to be done, by whom, until when
INSERT INTO action (fleet_id, compartment_id, sample_id, verdict_id, kind, cause, what, owner, due_on, opened_by)
VALUES (%(fleet_id)s, %(compartment_id)s, %(sample_id)s, %(verdict_id)s, %(kind)s, %(cause)s, %(what)s, %(owner)s, %(due_on)s, %(by)s)
RETURNING action_id

-- :actions  open ones of a compartment (NULL: of all), oldest due first
SELECT a.*, s.sample_no, s.sampled_on, u.name AS unit, c.name AS compartment, c.unit_id
FROM action a JOIN sample s ON s.fleet_id = a.fleet_id AND s.sample_id = a.sample_id
JOIN compartment c ON c.fleet_id = a.fleet_id AND c.compartment_id = a.compartment_id
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE a.closed_at IS NULL AND (%(compartment_id)s::bigint IS NULL OR a.compartment_id = %(compartment_id)s)
ORDER BY a.due_on NULLS LAST, a.action_id

-- :actions_closed  the latest of them
SELECT a.*, s.sample_no, s.sampled_on, u.name AS unit, c.name AS compartment, cs.sample_no AS closed_sample_no, f.cause AS found
FROM action a JOIN sample s ON s.fleet_id = a.fleet_id AND s.sample_id = a.sample_id
JOIN compartment c ON c.fleet_id = a.fleet_id AND c.compartment_id = a.compartment_id
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN sample cs ON cs.fleet_id = a.fleet_id AND cs.sample_id = a.closed_sample_id
LEFT JOIN finding f ON f.fleet_id = a.fleet_id AND f.finding_id = a.finding_id
WHERE a.closed_at IS NOT NULL AND (%(compartment_id)s::bigint IS NULL OR a.compartment_id = %(compartment_id)s)
ORDER BY a.closed_at DESC LIMIT %(limit)s

-- :action  one action with its sample
SELECT a.*, s.sampled_on FROM action a JOIN sample s USING (fleet_id, sample_id) WHERE a.action_id = %(action_id)s

-- :close_on_sample  a later sample shows that it worked
UPDATE action SET closed_at = now(), closed_by = %(by)s, closed_sample_id = %(sample_id)s
WHERE action_id = %(action_id)s AND closed_at IS NULL

-- :withdraw  what a verdict opened and is still open, when it is signed again
UPDATE action SET closed_at = now(), closed_by = %(by)s, withdrawn_by = %(now)s WHERE verdict_id = %(before)s AND closed_at IS NULL

-- :closed_on  what was closed on a sample, to be looked at again when its verdict is signed again
SELECT a.*, s.sample_no, s.sampled_on FROM action a JOIN sample s ON s.fleet_id = a.fleet_id AND s.sample_id = a.sample_id
WHERE a.closed_sample_id = %(sample_id)s AND a.kind = 'do'

-- :reopen  of these, what a verdict signed again no longer closes
UPDATE action SET closed_at = NULL, closed_by = NULL, closed_sample_id = NULL
WHERE closed_sample_id = %(sample_id)s AND kind = 'do' AND NOT action_id = ANY(%(closes)s)

-- :stops  stops that stand and that nobody who answers for the unit has said they heard
SELECT x.last_sample_id AS sample_id, x.compartment_id, u.unit_id, u.name AS unit, c.name AS compartment, x.last_sampled_on,
       v.verdict IS NOT NULL AS signed, coalesce(v.signed_by, '') AS signed_by
FROM standing x JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN verdict v ON v.fleet_id = x.fleet_id AND v.sample_id = x.last_sample_id AND v.superseded_by IS NULL
WHERE x.urgency = 0 AND NOT EXISTS (SELECT 1 FROM stop_heard h WHERE h.fleet_id = x.fleet_id AND h.sample_id = x.last_sample_id)
ORDER BY x.last_sampled_on, x.compartment_id LIMIT 20

-- :hear_stop  somebody who answers for the unit has heard
INSERT INTO stop_heard (fleet_id, sample_id, compartment_id, heard_by, note)
SELECT %(fleet_id)s, x.last_sample_id, x.compartment_id, %(by)s, %(note)s FROM standing x
WHERE x.urgency = 0 AND x.last_sample_id = %(sample_id)s ON CONFLICT DO NOTHING RETURNING compartment_id

-- :heard  who heard a sample's stop
SELECT heard_by, heard_at, note FROM stop_heard WHERE sample_id = %(sample_id)s

-- :close_on_finding  the workshop has looked
UPDATE action SET closed_at = now(), closed_by = %(by)s, finding_id = %(finding_id)s
WHERE action_id = %(action_id)s AND closed_at IS NULL

-- :put_finding  with what had been said of it lately
INSERT INTO finding (fleet_id, compartment_id, sample_id, on_day, cause, note, said, recorded_by)
VALUES (%(fleet_id)s, %(compartment_id)s, %(sample_id)s, %(on)s, %(cause)s, %(note)s, %(said)s, %(by)s)
RETURNING finding_id

-- :said_lately  what was held of a compartment in the half year before a day: each cause at its strongest
SELECT h ->> 'key' AS key, max(CASE h ->> 'strength' WHEN 'strong' THEN 3 WHEN 'probable' THEN 2 ELSE 1 END) AS strength
FROM sample s JOIN evaluation e USING (fleet_id, sample_id), jsonb_array_elements(e.hypotheses) h
WHERE s.compartment_id = %(compartment_id)s AND s.superseded_by IS NULL
  AND s.sampled_on <= %(on)s AND s.sampled_on > %(on)s::date - 183
GROUP BY 1

-- :findings  newest first
SELECT f.*, u.name AS unit, c.name AS compartment FROM finding f JOIN compartment c USING (fleet_id, compartment_id)
JOIN unit u USING (fleet_id, unit_id)
WHERE %(compartment_id)s::bigint IS NULL OR f.compartment_id = %(compartment_id)s
ORDER BY f.on_day DESC, f.finding_id DESC LIMIT %(limit)s

-- :score  how often each cause was right: named probable or strong before a finding, and what was found
SELECT key, sum(named) AS named, sum(right_one) AS right, sum(missed) AS missed
FROM (
    SELECT h ->> 'key' AS key, 1 AS named, (h ->> 'key' = f.cause)::int AS right_one, 0 AS missed
    FROM finding f, jsonb_array_elements(f.said) h WHERE (h ->> 'strength')::int >= 2
    UNION ALL
    SELECT f.cause, 0, 0, 1 FROM finding f
    WHERE NOT EXISTS (SELECT 1 FROM jsonb_array_elements(f.said) h WHERE h ->> 'key' = f.cause AND (h ->> 'strength')::int >= 2)
) x WHERE key <> 'nothing' GROUP BY key ORDER BY named DESC, key

-- :resamples  asked for and still awaited, for the plan
SELECT a.action_id, a.compartment_id, a.what, a.owner, a.due_on, u.name AS unit, c.name AS compartment, c.unit_id
FROM action a JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE a.closed_at IS NULL AND a.kind = 'resample' ORDER BY a.due_on NULLS LAST

-- :last_signed  of a compartment
SELECT v.sample_id, v.verdict, v.proposed FROM verdict v JOIN sample s USING (fleet_id, sample_id)
WHERE v.compartment_id = %(compartment_id)s AND v.superseded_by IS NULL ORDER BY s.sampled_on DESC LIMIT 1

-- :signed_between  verdicts signed in a span of days, worst first
SELECT v.verdict, v.proposed, v.cause, v.comment, v.reason, v.signed_by, v.signed_at, s.sample_no, s.sampled_on, u.name AS unit,
       c.name AS compartment, c.compartment_id
FROM verdict v JOIN sample s USING (fleet_id, sample_id)
JOIN compartment c ON c.fleet_id = v.fleet_id AND c.compartment_id = v.compartment_id
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE v.superseded_by IS NULL AND v.signed_at::date > %(since)s AND v.signed_at::date <= %(until)s
ORDER BY v.verdict DESC, v.signed_at

-- :intervals_moved  approved in the last days
SELECT i.effective_from, i.meter, i.approved_by, i.why, u.name AS unit, c.name AS compartment, c.counts AS meter_unit
FROM (SELECT f.fleet_id, f.compartment_id, f.origin, f.from_day AS effective_from, f.value AS meter, v.approved_by, v.why
      FROM in_force f JOIN drain_interval v USING (fleet_id, interval_id)
      WHERE f.fact = 'length' AND f.state IN ('stands', 'stood') AND f.why <> 'charge_ended') i
JOIN compartment c USING (fleet_id, compartment_id)
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE i.origin = 'approved' AND i.effective_from > %(since)s ORDER BY i.effective_from DESC

-- :confirmed  faults that the workshop found, of some compartments
SELECT compartment_id, on_day FROM finding WHERE cause <> 'nothing' AND compartment_id = ANY(%(only)s)

-- :called  samples of some compartments that were called, signed or else proposed
SELECT e.sample_id FROM evaluation e JOIN sample s USING (fleet_id, sample_id)
LEFT JOIN verdict v ON v.fleet_id = e.fleet_id AND v.sample_id = e.sample_id AND v.superseded_by IS NULL
WHERE s.compartment_id = ANY(%(only)s) AND coalesce(v.verdict, e.proposed) >= 1
