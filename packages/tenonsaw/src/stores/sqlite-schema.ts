/**
 * The tables, made to be read by a person with any SQLite tool: who, when, where, until when. Instants are UTC text
 * (ISO 8601); columns named `sealed_…` hold compact JWE; `id` of sessions and attempts and `browser_hash` are
 * SHA-256, base64url. Each entry moves the schema one version on; entries are only ever
 * added, and add what programs that do not know it can leave alone, or `compatibleFrom` moves.
 */
export const migrations: readonly string[] = [
  `
  CREATE TABLE people (
    id TEXT PRIMARY KEY,
    name TEXT,
    email TEXT,
    picture TEXT,
    created_at TEXT NOT NULL
  ) STRICT;
  CREATE TABLE identities (
    issuer TEXT NOT NULL,
    subject TEXT NOT NULL,
    provider TEXT NOT NULL,
    person_id TEXT NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    created_at TEXT NOT NULL,
    last_sign_in_at TEXT NOT NULL,
    PRIMARY KEY (issuer, subject)
  ) STRICT;
  CREATE INDEX identities_by_person ON identities (person_id);
  CREATE TABLE sessions (
    id TEXT PRIMARY KEY,
    person_id TEXT NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    provider TEXT NOT NULL,
    created_at TEXT NOT NULL,
    expires_at TEXT NOT NULL
  ) STRICT;
  CREATE INDEX sessions_by_person ON sessions (person_id);
  CREATE INDEX sessions_by_expiry ON sessions (expires_at);
  CREATE TABLE connections (
    id TEXT PRIMARY KEY,
    session_id TEXT NOT NULL REFERENCES sessions (id) ON DELETE CASCADE,
    person_id TEXT NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    provider TEXT NOT NULL,
    subject TEXT NOT NULL,
    scope TEXT NOT NULL,
    status TEXT NOT NULL CHECK (status IN ('active', 'ended')),
    obtained_at TEXT NOT NULL,
    expires_at TEXT,
    refresh_count INTEGER NOT NULL,
    sealed_access_token TEXT NOT NULL,
    sealed_refresh_token TEXT,
    sealed_id_token TEXT,
    version INTEGER NOT NULL,
    UNIQUE (session_id, provider)
  ) STRICT;
  CREATE TABLE attempts (
    id TEXT PRIMARY KEY,
    browser_hash TEXT NOT NULL,
    provider TEXT NOT NULL,
    host TEXT NOT NULL,
    return_to TEXT NOT NULL,
    sealed_attempt TEXT NOT NULL,
    began_at TEXT NOT NULL,
    expires_at TEXT NOT NULL,
    used_at TEXT
  ) STRICT;
  CREATE INDEX attempts_by_expiry ON attempts (expires_at);
  `,
  // Callback parameters that are kept with a connection, as JSON.
  "ALTER TABLE connections ADD COLUMN kept TEXT",
  // Whom a provider's own sign-out is about, and the notices of it that were followed. Sessions from before know their
  // identity by their connection.
  `
  ALTER TABLE sessions ADD COLUMN issuer TEXT NOT NULL DEFAULT '';
  ALTER TABLE sessions ADD COLUMN subject TEXT NOT NULL DEFAULT '';
  ALTER TABLE sessions ADD COLUMN provider_session_id TEXT;
  UPDATE sessions SET (issuer, subject) = (
    SELECT identities.issuer, identities.subject FROM identities
    WHERE identities.person_id = sessions.person_id AND identities.provider = sessions.provider
    ORDER BY last_sign_in_at DESC LIMIT 1
  ) WHERE EXISTS (
    SELECT 1 FROM identities
    WHERE identities.person_id = sessions.person_id AND identities.provider = sessions.provider
  );
  CREATE INDEX sessions_by_identity ON sessions (issuer, subject);
  CREATE TABLE marks (id TEXT PRIMARY KEY, expires_at TEXT NOT NULL) STRICT;
  CREATE INDEX marks_by_expiry ON marks (expires_at);
  `,
  // The key that an access token is bound to.
  "ALTER TABLE connections ADD COLUMN sealed_dpop_key TEXT",
  // When and how a person proved who they are.
  "ALTER TABLE sessions ADD COLUMN authenticated_at TEXT; ALTER TABLE sessions ADD COLUMN authentication_class TEXT;",
  // Sign-ins in a window of their own, further identities for somebody who is signed in, and few attempts a browser.
  `
  ALTER TABLE attempts ADD COLUMN ending TEXT;
  ALTER TABLE attempts ADD COLUMN link_session_id TEXT;
    CREATE INDEX attempts_by_browser ON attempts (browser_hash);
  `,
  // What calls are signed with, at a provider of OAuth 1.0a.
  "ALTER TABLE connections ADD COLUMN sealed_token_secret TEXT",
  // Which browser, and when it was last here.
  "ALTER TABLE sessions ADD COLUMN device TEXT; ALTER TABLE sessions ADD COLUMN last_seen_at TEXT;",
  // Who is refreshing what. Milliseconds since the epoch: a lease may be shorter than a second.
  "CREATE TABLE leases (name TEXT PRIMARY KEY, owner TEXT NOT NULL, ends_at_ms INTEGER NOT NULL) STRICT",
  // Access tokens for APIs that take one of their own, as JSON; the tokens in it are sealed.
  "ALTER TABLE connections ADD COLUMN api_tokens TEXT",
  // Sessions that have limits of their own.
  "ALTER TABLE sessions ADD COLUMN kind TEXT; ALTER TABLE attempts ADD COLUMN session_kind TEXT;",
  // Which programs can use the tables beside newer ones.
  "CREATE TABLE schema_compatibility (compatible_from INTEGER NOT NULL) STRICT",
  // Leases are counted, end by a clock that does not step, and keep room for what is to be written under them.
  `
  CREATE TABLE counters (name TEXT PRIMARY KEY, value INTEGER NOT NULL) STRICT;
  INSERT INTO counters VALUES ('lease', 0);
  DROP TABLE leases;
  CREATE TABLE leases (
    name TEXT PRIMARY KEY,
    owner TEXT NOT NULL,
    number INTEGER NOT NULL,
    taken_at TEXT NOT NULL,
    seconds REAL NOT NULL,
    ends_at_uptime REAL NOT NULL,
    room TEXT NOT NULL
  ) STRICT;
  ALTER TABLE connections ADD COLUMN renewed_under INTEGER;
  `,
  // What the settings keep of the provider's claims, as JSON.
  "ALTER TABLE sessions ADD COLUMN claims TEXT",
  // Connections that belong to a person. Whose they are may be known to the app alone, so `person_id` refers to nothing.
  `
  CREATE TABLE kept_connections (
    id TEXT PRIMARY KEY,
    person_id TEXT NOT NULL,
    provider TEXT NOT NULL,
    environment TEXT NOT NULL,
    account TEXT NOT NULL,
    account_name TEXT,
    confirmed_at TEXT,
    connected_at TEXT NOT NULL,
    last_used_at TEXT,
    subject TEXT NOT NULL,
    scope TEXT NOT NULL,
    status TEXT NOT NULL CHECK (status IN ('active', 'ended')),
    obtained_at TEXT NOT NULL,
    expires_at TEXT,
    refresh_count INTEGER NOT NULL,
    sealed_access_token TEXT NOT NULL,
    sealed_refresh_token TEXT,
    sealed_id_token TEXT,
    sealed_dpop_key TEXT,
    sealed_token_secret TEXT,
    api_tokens TEXT,
    kept TEXT,
    version INTEGER NOT NULL,
    renewed_under INTEGER,
    UNIQUE (person_id, provider, environment, account)
  ) STRICT;
  CREATE INDEX kept_connections_by_provider ON kept_connections (provider, account);
  ALTER TABLE attempts ADD COLUMN connect_for TEXT;
  `,
  // The context that a host has opened the app in.
  `
  ALTER TABLE connections ADD COLUMN sealed_context TEXT;
  ALTER TABLE kept_connections ADD COLUMN sealed_context TEXT;
  `,
  // What a person was asked for and the provider did not grant; and the tokens that a newer grant for the same account has replaced.
  `
  ALTER TABLE connections ADD COLUMN not_granted TEXT;
  ALTER TABLE kept_connections ADD COLUMN not_granted TEXT;
  ALTER TABLE connections ADD COLUMN sealed_replaced TEXT;
  ALTER TABLE kept_connections ADD COLUMN sealed_replaced TEXT;
  `,
  // What is looked for in tables that grow is found by an index: notices of sign-out, people who are removed, operators' lists.
  `
  CREATE INDEX sessions_by_provider_session ON sessions (provider_session_id);
  CREATE INDEX sessions_by_time ON sessions (created_at);
  CREATE INDEX sessions_by_provider ON sessions (provider, created_at);
  CREATE INDEX kept_connections_by_time ON kept_connections (connected_at);
  CREATE INDEX kept_connections_by_account ON kept_connections (account);
  CREATE INDEX connections_by_person ON connections (person_id);
  `,
];

/** Programs that know so many of them can use the tables that all of them make. */
export const compatibleFrom = 13;
