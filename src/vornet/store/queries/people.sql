-- :account
SELECT account_id, login, display_name, password_hash FROM account WHERE login = %(login)s

-- :put_account
INSERT INTO account (login, display_name, password_hash) VALUES (%(login)s, %(name)s, %(hash)s)
ON CONFLICT (login) DO UPDATE SET display_name = excluded.display_name, password_hash = excluded.password_hash
RETURNING account_id

-- :put_member
INSERT INTO membership (fleet_id, account_id, role) VALUES (%(fleet_id)s, %(account_id)s, %(role)s)
ON CONFLICT (fleet_id, account_id) DO UPDATE SET role = excluded.role

-- :open_session
INSERT INTO session (token_hash, account_id, fleet_id, csrf, expires_at)
VALUES (%(token_hash)s, %(account_id)s, %(fleet_id)s, %(csrf)s, now() + %(lifetime)s)

-- :session  who is behind a token
SELECT s.account_id, s.fleet_id, s.csrf, a.login, a.display_name FROM session s JOIN account a USING (account_id)
WHERE s.token_hash = %(token_hash)s AND s.expires_at > now()

-- :close_session
DELETE FROM session WHERE token_hash = %(token_hash)s OR expires_at < now()

-- :failures  failed sign-ins of the last quarter of an hour
SELECT count(*) AS n FROM sign_in_failure WHERE login = %(login)s AND at > now() - interval '15 minutes'

-- :note_failure
INSERT INTO sign_in_failure (login) VALUES (%(login)s)

-- :forget_failures
DELETE FROM sign_in_failure WHERE login = %(login)s OR at < now() - interval '1 day'

-- :role
SELECT m.role, f.name AS fleet FROM membership m JOIN fleet f USING (fleet_id) WHERE m.account_id = %(account_id)s
