-- :account  asked for before a fleet is known
SELECT account_id, login, display_name, password_hash FROM account WHERE login = %(login)s

-- :account_by_id  one's own
SELECT account_id, login, display_name, password_hash FROM account WHERE account_id = %(account_id)s

-- :any_account  is anyone in yet
SELECT EXISTS (SELECT 1 FROM account) AS known

-- :new_account  only when the login is free
INSERT INTO account (login, display_name, password_hash) VALUES (%(login)s, %(name)s, %(hash)s)
ON CONFLICT (login) DO NOTHING RETURNING account_id

-- :set_password  a new hash
UPDATE account SET password_hash = %(hash)s WHERE account_id = %(account_id)s

-- :put_member  what somebody does in this fleet
INSERT INTO membership (fleet_id, account_id, roles) VALUES (%(fleet_id)s, %(account_id)s, %(roles)s)
ON CONFLICT (fleet_id, account_id) DO UPDATE SET roles = excluded.roles

-- :members  who is in this fleet, and how many sessions they have open in it
SELECT m.account_id, m.roles, a.login, a.display_name,
       (SELECT count(*) FROM session s WHERE s.account_id = m.account_id AND s.fleet_id = m.fleet_id AND s.expires_at > now()) AS sessions
FROM membership m JOIN account a USING (account_id) ORDER BY a.display_name, a.login

-- :member  one person of this fleet
SELECT m.account_id, m.roles, a.login, a.display_name FROM membership m JOIN account a USING (account_id)
WHERE m.account_id = %(account_id)s

-- :lock_members  two admins who demote each other take turns
SELECT account_id FROM membership ORDER BY account_id FOR UPDATE

-- :remove_member  out of this fleet, the account stays
DELETE FROM membership WHERE account_id = %(account_id)s

-- :admins  the last one stays
SELECT count(*) AS n FROM membership WHERE 'admin' = ANY(roles)

-- :open_session  only the token's hash is kept
INSERT INTO session (token_hash, account_id, fleet_id, csrf, expires_at, agent)
VALUES (%(token_hash)s, %(account_id)s, %(fleet_id)s, %(csrf)s, now() + %(lifetime)s, %(agent)s)

-- :session  who is behind a token
SELECT s.account_id, s.fleet_id, s.csrf, a.login, a.display_name FROM session s JOIN account a USING (account_id)
WHERE s.token_hash = %(token_hash)s AND s.expires_at > now()

-- :sessions  one person's open sessions
SELECT created_at, expires_at, agent, token_hash = %(token_hash)s AS here FROM session
WHERE account_id = %(account_id)s AND expires_at > now() ORDER BY created_at DESC

-- :choose_fleet  a session goes on in another of one's fleets
UPDATE session SET fleet_id = %(fleet_id)s WHERE token_hash = %(token_hash)s

-- :close_session  signed out
DELETE FROM session WHERE token_hash = %(token_hash)s OR expires_at < now()

-- :close_sessions  sign someone out everywhere, this session kept if its hash is given
DELETE FROM session WHERE account_id = %(account_id)s AND token_hash IS DISTINCT FROM %(keep)s

-- :close_sessions_here  sign someone out of one fleet
DELETE FROM session WHERE account_id = %(account_id)s AND fleet_id = %(fleet_id)s

-- :end_keys_here  a person's tokens in this fleet
UPDATE api_token SET revoked_at = now() WHERE account_id = %(account_id)s AND revoked_at IS NULL AND expires_at > now()

-- :end_devices_here  what a person's devices may still send for jobs of this fleet
UPDATE job_device SET expires_at = now() WHERE account_id = %(account_id)s AND expires_at > now()

-- :put_invitation  only its link's hash is kept
INSERT INTO invitation (fleet_id, token_hash, name, roles, made_by, expires_at)
VALUES (%(fleet_id)s, %(token_hash)s, %(name)s, %(roles)s, %(by)s, now() + %(lifetime)s)

-- :invitations  those that wait
SELECT invitation_id, name, roles, made_by, made_at, expires_at FROM invitation
WHERE ended_at IS NULL AND expires_at > now() ORDER BY invitation_id DESC

-- :end_invitation  accepted by an account, or taken back; once
UPDATE invitation SET ended_at = now(), account_id = %(account_id)s
WHERE invitation_id = %(invitation_id)s AND ended_at IS NULL RETURNING name

-- :put_password_link  only its hash is kept
INSERT INTO password_link (fleet_id, token_hash, account_id, made_by, expires_at)
VALUES (%(fleet_id)s, %(token_hash)s, %(account_id)s, %(by)s, now() + %(lifetime)s)

-- :end_password_links  a new one replaces those before
UPDATE password_link SET used_at = now() WHERE account_id = %(account_id)s AND used_at IS NULL

-- :use_password_link  once
UPDATE password_link SET used_at = now() WHERE token_hash = %(token_hash)s AND used_at IS NULL AND expires_at > now() RETURNING account_id

-- :failures  failed sign-ins of the last quarter of an hour, for a name and from an address
SELECT count(*) FILTER (WHERE login = %(login)s) AS named, count(*) FILTER (WHERE address = %(address)s) AS from_there
FROM sign_in_failure
WHERE (login = %(login)s OR address = %(address)s AND address <> '') AND at > now() - interval '15 minutes'

-- :note_failure  counted by name and by address
INSERT INTO sign_in_failure (login, address) VALUES (%(login)s, %(address)s)

-- :forget_failures  a right password ends the count
DELETE FROM sign_in_failure WHERE login = %(login)s OR at < now() - interval '1 day'

-- :put_first_run  the code a fresh installation prints
INSERT INTO first_run (code_hash) VALUES (%(code_hash)s)

-- :first_run  the code that makes the first fleet
SELECT 1 AS known FROM first_run WHERE code_hash = %(code_hash)s AND made_at > now() - interval '1 day'

-- :forget_first_run  the code is used once
DELETE FROM first_run

-- :put_token  only its hash is kept
INSERT INTO api_token (fleet_id, account_id, name, token_hash, scopes, expires_at)
VALUES (%(fleet_id)s, %(account_id)s, %(name)s, %(token_hash)s, %(scopes)s, now() + %(lifetime)s) RETURNING token_id

-- :tokens  one person's, or everyone's when no person is given
SELECT t.token_id, t.name, t.scopes, t.made_at, t.expires_at, t.used_at, t.revoked_at, a.display_name, a.login,
       t.revoked_at IS NULL AND t.expires_at > now() AS alive
FROM api_token t JOIN account a USING (account_id)
WHERE %(account_id)s::integer IS NULL OR t.account_id = %(account_id)s ORDER BY t.token_id DESC

-- :token_used  at most once a minute
UPDATE api_token SET used_at = now()
WHERE token_id = %(token_id)s AND (used_at IS NULL OR used_at < now() - interval '1 minute')

-- :revoke_token  ends at once
UPDATE api_token SET revoked_at = now()
WHERE token_id = %(token_id)s AND revoked_at IS NULL AND (%(account_id)s::integer IS NULL OR account_id = %(account_id)s)
RETURNING name

-- :audit_trail  newest first
SELECT audit_id, at, who, what, about, detail FROM audit
WHERE (%(who)s = '' OR who = %(who)s) AND (%(what)s = '' OR what = %(what)s)
  AND (%(q)s = '' OR about ILIKE %(like)s OR detail::text ILIKE %(like)s)
  AND (%(since)s::date IS NULL OR at >= %(since)s) AND (%(until)s::date IS NULL OR at < %(until)s::date + 1)
  AND (%(before)s::bigint IS NULL OR audit_id < %(before)s)
ORDER BY audit_id DESC LIMIT %(limit)s

-- :audit_words  what there is to filter by
SELECT array_agg(DISTINCT who) AS who, array_agg(DISTINCT what) AS what FROM audit

-- :fleets_left_touched  asked before a fleet is known: where something was touched and whoever was to settle it is gone
SELECT fleet_id FROM fleets_left_touched(%(after_s)s)

-- :fleets_with_labs  asked before a fleet is known
SELECT fleet_id FROM fleets_with_labs()
