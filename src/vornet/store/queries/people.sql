-- :account_named  asked for before anybody is known
SELECT account_named(%(login)s) AS id

-- :account_secrets  what a person signs in with
SELECT * FROM account_secrets(%(account_id)s)

-- :fleets_of  where somebody works, and of whom it asks for a second factor
SELECT * FROM fleets_of(%(account_id)s)

-- :attempt_begin  one try at a secret from one place: how long it has to wait, s; noted as failed when it need not
SELECT wait FROM attempt_begin(%(what)s, %(place)s, %(free)s, %(longest)s, %(most)s)

-- :attempt_fits  it was right: what failed from there is forgotten
SELECT attempt_fits(%(what)s, %(place)s)

-- :known_address  somebody signed in from there
INSERT INTO known_address (account_id, address) VALUES (%(account_id)s, %(address)s)
ON CONFLICT (account_id, address) DO UPDATE SET last_at = now()

-- :put_second  a sealed secret, or '' for none
UPDATE account SET totp = %(totp)s, totp_step = %(step)s WHERE account_id = %(account_id)s

-- :use_step  a code is good once, and none before it after that
UPDATE account SET totp_step = %(step)s
WHERE account_id = %(account_id)s AND totp_step < %(step)s

-- :session_second  this session has given its second factor
UPDATE session SET second = true WHERE token_hash = %(token_hash)s

-- :forget_codes  recovery codes that are good no more
DELETE FROM recovery_code WHERE account_id = %(account_id)s

-- :put_code  only its hash is kept
INSERT INTO recovery_code (account_id, code_hash) VALUES (%(account_id)s, %(code_hash)s)

-- :use_code  once
UPDATE recovery_code SET used_at = now() WHERE account_id = %(account_id)s AND code_hash = %(code_hash)s AND used_at IS NULL

-- :codes_left  those that are good yet
SELECT count(*) AS n FROM recovery_code WHERE account_id = %(account_id)s AND used_at IS NULL

-- :ask_second  of which roles the fleet asks for a second factor
UPDATE fleet SET second_factor = %(roles)s

-- :identity  whom the provider means
SELECT identity_of(%(issuer)s, %(subject)s) AS id

-- :identities  the provider's names for somebody
SELECT issuer, subject, made_at FROM identity WHERE account_id = %(account_id)s ORDER BY made_at

-- :put_identity  one account a subject, one subject of a provider an account
INSERT INTO identity (issuer, subject, account_id) VALUES (%(issuer)s, %(subject)s, %(account_id)s) ON CONFLICT DO NOTHING RETURNING account_id

-- :forget_identity  the provider vouches no more
DELETE FROM identity WHERE account_id = %(account_id)s AND issuer = %(issuer)s

-- :any_account  is anyone in yet
SELECT account_known() AS known

-- :new_account  only when the login is free
SELECT account_make(%(login)s, %(name)s, %(hash)s) AS id

-- :set_password  a new hash
UPDATE account SET password_hash = %(hash)s WHERE account_id = %(account_id)s

-- :put_member  what somebody does in this fleet
INSERT INTO membership (fleet_id, account_id, roles) VALUES (%(fleet_id)s, %(account_id)s, %(roles)s)
ON CONFLICT (fleet_id, account_id) DO UPDATE SET roles = excluded.roles

-- :members  who is in this fleet, and how many sessions they have open in it
SELECT m.account_id, m.roles, a.login, a.display_name, a.totp_step > 0 AS has_second,
       (SELECT count(*) FROM session s WHERE s.account_id = m.account_id AND s.fleet_id = m.fleet_id AND s.expires_at > now()) AS sessions
FROM membership m JOIN account a USING (account_id) ORDER BY a.display_name, a.login

-- :member  one person of this fleet
SELECT m.account_id, m.roles, a.login, a.display_name FROM membership m JOIN account a USING (account_id)
WHERE m.account_id = %(account_id)s

-- :chain  the audit trail's lines as they were hashed, with their links; one of either may be missing
SELECT l.seq, l.hash, coalesce(l.audit_id, a.audit_id) AS audit_id, CASE WHEN a.audit_id IS NOT NULL THEN audit_text(a) END AS text
FROM audit a FULL JOIN audit_link l ON l.fleet_id = a.fleet_id AND l.audit_id = a.audit_id
ORDER BY l.seq NULLS LAST, a.audit_id

-- :lock_members  two admins who demote each other take turns
SELECT account_id FROM membership ORDER BY account_id FOR UPDATE

-- :note_once  a line of the trail, unless the same stands there from within the last minute
INSERT INTO audit (fleet_id, who, what, about, detail)
SELECT %(fleet_id)s, %(who)s, %(what)s, %(about)s, %(detail)s
WHERE NOT EXISTS (SELECT 1 FROM audit WHERE who = %(who)s AND what = %(what)s AND about = %(about)s AND at > now() - interval '1 minute')

-- :remove_member  out of this fleet, the account stays
DELETE FROM membership WHERE account_id = %(account_id)s

-- :admins  the last one stays
SELECT count(*) AS n FROM membership WHERE 'admin' = ANY(roles)

-- :open_session  only the token's hash is kept
INSERT INTO session (token_hash, account_id, fleet_id, csrf, expires_at, agent, stage, second)
VALUES (%(token_hash)s, %(account_id)s, %(fleet_id)s, %(csrf)s, now() + %(lifetime)s, %(agent)s, %(stage)s, %(second)s)

-- :session  who is behind a token; one that was not used for too long is none
SELECT * FROM session_of(%(token_hash)s, %(idle)s)

-- :sessions  one person's open sessions
SELECT created_at, expires_at, used_at, agent, second, token_hash = %(token_hash)s AS here FROM session
WHERE account_id = %(account_id)s AND stage = 'in' AND expires_at > now() AND used_at > now() - %(idle)s ORDER BY created_at DESC

-- :choose_fleet  a session goes on in another of one's fleets
UPDATE session SET fleet_id = %(fleet_id)s WHERE token_hash = %(token_hash)s

-- :close_session  signed out; those that ended by themselves go with it
SELECT session_end(%(token_hash)s, %(idle)s)

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

-- :use_password_link  once, for whom it is
SELECT password_link_use(%(token_hash)s, %(hash)s) AS whose

-- :put_first_run  the code a fresh installation prints
SELECT first_run_put(%(code_hash)s)

-- :first_run  the code that makes the first fleet
SELECT first_run_fits(%(code_hash)s) AS fits

-- :forget_first_run  the code is used once
SELECT first_run_over()

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

-- :unguarded  tables that row-level security does not guard; other people's (migrations, the queue) and those nobody may touch set aside
SELECT relname AS name FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'p') AND NOT relispartition
  AND NOT relrowsecurity AND relname !~ '^(_?yoyo|procrastinate)' AND has_any_column_privilege(current_user, oid, 'SELECT') ORDER BY relname

-- :audit_trail  newest first
SELECT audit_id, at, who, what, about, detail, account_id FROM audit
WHERE (%(who)s = '' OR who = %(who)s) AND (%(what)s = '' OR what = %(what)s)
  AND (%(q)s = '' OR about ILIKE %(like)s OR detail::text ILIKE %(like)s)
  AND (%(since)s::date IS NULL OR at >= %(since)s) AND (%(until)s::date IS NULL OR at < %(until)s::date + 1)
  AND (%(before)s::bigint IS NULL OR audit_id < %(before)s)
ORDER BY audit_id DESC LIMIT %(limit)s

-- :audit_words  what there is to filter by
SELECT array_agg(DISTINCT who) AS who, array_agg(DISTINCT what) AS what FROM audit

-- :fleets_left_touched  asked before a fleet is known: where something was touched and whoever was to settle it is gone
SELECT fleet_id FROM fleets_left_touched(%(after_s)s)

-- :fleets_by_day  asked before a fleet is known: where anything is to be judged, in what zone, and as of which day it last was
SELECT fleet_id, zone, judged_on FROM fleets_by_day()

-- :fleets_with_labs  asked before a fleet is known
SELECT fleet_id FROM fleets_with_labs()

-- :end_keys  everything that acts for a person, in every fleet
SELECT end_keys_of(%(account_id)s) AS n

-- :token_owner  whom a program acts for, asked before a fleet is known
SELECT * FROM token_owner(%(token_hash)s)

-- :second_off  a lost second factor is taken off whoever is in this fleet alone
SELECT second_factor_off(%(account_id)s, %(fleet_id)s) AS done

-- :invitation_of  what a link offers, asked before a fleet is known
SELECT * FROM invitation_of(%(token_hash)s)

-- :password_link_of  whose password a link is for
SELECT * FROM password_link_of(%(token_hash)s)

-- :set_writing  how a person writes dates and figures
UPDATE account SET writes = %(writes)s WHERE account_id = %(account_id)s
