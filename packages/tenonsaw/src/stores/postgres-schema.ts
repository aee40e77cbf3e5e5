/**
 * The tables, made to be read by a person with any PostgreSQL tool: who, when, where, until when. Columns named
 * `sealed_…` hold compact JWE; `id` of sessions and attempts and `browser_hash` are SHA-256, base64url; `serial` keeps
 * the order of what came within one second. Each entry moves the schema one version on; entries are only ever added, and
 * add what programs that do not know it can leave alone, or `compatibleFrom` moves.
 */
export const migrations: readonly string[] = [
  `
  CREATE TABLE tenonsaw.people (
    id text PRIMARY KEY,
    name text,
    email text,
    picture text,
    created_at timestamptz NOT NULL
  );
  CREATE TABLE tenonsaw.identities (
    issuer text NOT NULL,
    subject text NOT NULL,
    provider text NOT NULL,
    person_id text NOT NULL REFERENCES tenonsaw.people (id) ON DELETE CASCADE,
    created_at timestamptz NOT NULL,
    last_sign_in_at timestamptz NOT NULL,
    serial bigint GENERATED ALWAYS AS IDENTITY,
    PRIMARY KEY (issuer, subject)
  );
  CREATE INDEX identities_by_person ON tenonsaw.identities (person_id);
  CREATE TABLE tenonsaw.sessions (
    id text PRIMARY KEY,
    person_id text NOT NULL REFERENCES tenonsaw.people (id) ON DELETE CASCADE,
    provider text NOT NULL,
    issuer text NOT NULL,
    subject text NOT NULL,
    provider_session_id text,
    authenticated_at timestamptz,
            authentication_class text,
    device text,
    last_seen_at timestamptz,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    serial bigint GENERATED ALWAYS AS IDENTITY
  );
  CREATE INDEX sessions_by_person ON tenonsaw.sessions (person_id);
  CREATE INDEX sessions_by_expiry ON tenonsaw.sessions (expires_at);
  CREATE INDEX sessions_by_identity ON tenonsaw.sessions (issuer, subject);
  CREATE TABLE tenonsaw.connections (
    id text PRIMARY KEY,
    session_id text NOT NULL REFERENCES tenonsaw.sessions (id) ON DELETE CASCADE,
    person_id text NOT NULL REFERENCES tenonsaw.people (id) ON DELETE CASCADE,
    provider text NOT NULL,
    subject text NOT NULL,
    scope text NOT NULL,
    status text NOT NULL CHECK (status IN ('active', 'ended')),
    obtained_at timestamptz NOT NULL,
    expires_at timestamptz,
    refresh_count integer NOT NULL,
    sealed_access_token text NOT NULL,
    sealed_refresh_token text,
    sealed_id_token text,
    sealed_dpop_key text,
    sealed_token_secret text,
    kept text,
    version integer NOT NULL,
    UNIQUE (session_id, provider)
  );
  CREATE INDEX connections_by_person ON tenonsaw.connections (person_id);
  CREATE TABLE tenonsaw.attempts (
    id text PRIMARY KEY,
    browser_hash text NOT NULL,
    provider text NOT NULL,
    host text NOT NULL,
    return_to text NOT NULL,
    sealed_attempt text NOT NULL,
    ending text,
    link_session_id text,
    began_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    used_at timestamptz,
    serial bigint GENERATED ALWAYS AS IDENTITY
  );
  CREATE INDEX attempts_by_expiry ON tenonsaw.attempts (expires_at);
  CREATE INDEX attempts_by_browser ON tenonsaw.attempts (browser_hash);
  CREATE TABLE tenonsaw.marks (id text PRIMARY KEY, expires_at timestamptz NOT NULL);
  CREATE INDEX marks_by_expiry ON tenonsaw.marks (expires_at);
  CREATE TABLE tenonsaw.leases (name text PRIMARY KEY, owner text NOT NULL, ends_at timestamptz NOT NULL);
  `,
  // Access tokens for APIs that take one of their own, as JSON; the tokens in it are sealed.
  "ALTER TABLE tenonsaw.connections ADD COLUMN api_tokens text",
  // Sessions that have limits of their own.
  "ALTER TABLE tenonsaw.sessions ADD COLUMN kind text; ALTER TABLE tenonsaw.attempts ADD COLUMN session_kind text;",
];

/** Programs that know so many of them can use the tables that all of them make. */
export const compatibleFrom = 3;
