/**
 * What has to happen at once, as scripts for the server. KEYS[1] is the prefix of all keys; a record is JSON, read here
 * and never written anew, so that what comes out is what went in. Kept, by name behind the prefix:
 *
 * - `person:<id>`, `identity:<issuer> <subject>`, `session:<id>`, `attempt:<id>`: one record each
 * - `connections:<session>`: a hash of records by provider, and of their versions by `<provider> version`
 * - `identities:<person>`, `sessions-of:<person>`, `sessions-by:<issuer> <subject>`, `sessions-by-sid:<issuer> <sid>`,
 *   `sessions`, `attempts-of:<browser>`: sorted sets that lead to them, by time
 * - `session-ends`, `attempt-ends`: the same, by when they are over
 * - `moved:<connection>`: the session that a connection went over to
 * - `kept:<id>`: a person's own connection, `kept-used:<id>` when it was used last, `kept-of:<person>` and `kept` sorted sets
 *   that lead to them, and `kept-accounts`, by person, provider, environment and account, with `kept-keys` the way back
 * - `attempt-used:<id>`, `mark:<id>`, `lease:<name>`, `lease-past:<name>`, `lease-number`: what is taken
 *
 * All but people, their identities, their own connections and the two counters end by themselves: a day after what they are about, so that a
 * sweep finds it first, and what led to it with the last of it.
 */
const shared = `
local P = KEYS[1]
local DAY = 86400
-- A key that leads to others lasts as long as the last of them.
local function outlive(key, at)
  at = math.ceil(at) + DAY
  if redis.call('EXPIRETIME', key) < at then redis.call('EXPIREAT', key, at) end
end
-- Times have a fraction behind them that counts up, so that what comes within one second keeps its order.
local function nextScore(at)
  return at + (redis.call('INCR', P .. 'serial') % 1000000) / 1000000
end
local function connectionsOf(session)
  local all = redis.call('HGETALL', P .. 'connections:' .. session)
  local found = {}
  for i = 1, #all, 2 do
    if string.sub(all[i], -8) ~= ' version' then table.insert(found, all[i + 1]) end
  end
  return found
end
-- A record says the session that it was made for; which one has it is said by the key.
local function putConnection(text, sessionId)
  local record = cjson.decode(text)
  sessionId = sessionId or record.sessionId
  local key = P .. 'connections:' .. sessionId

  redis.call('HSET', key, record.provider, text, record.provider .. ' version', record.id .. ' ' .. record.version)
    local session = redis.call('GET', P .. 'session:' .. sessionId)

  if session then outlive(key, cjson.decode(session).expiresAt) end
end
local function dropSession(id)
  local text = redis.call('GET', P .. 'session:' .. id)
  local held = connectionsOf(id)
  redis.call('DEL', P .. 'session:' .. id, P .. 'connections:' .. id)
  redis.call('ZREM', P .. 'sessions', id)
  redis.call('ZREM', P .. 'session-ends', id)
  if text then
    local session = cjson.decode(text)
    redis.call('ZREM', P .. 'sessions-of:' .. session.personId, id)
    redis.call('ZREM', P .. 'sessions-by:' .. session.issuer .. ' ' .. session.subject, id)
    if session.providerSessionId then
      redis.call('ZREM', P .. 'sessions-by-sid:' .. session.issuer .. ' ' .. session.providerSessionId, id)
    end
  end
  return held
end
local function dropKept(id)
  local text = redis.call('GET', P .. 'kept:' .. id)
  if not text then return false end
  local record = cjson.decode(text)
  redis.call('DEL', P .. 'kept:' .. id, P .. 'kept-used:' .. id)
  redis.call('ZREM', P .. 'kept', id)
  redis.call('ZREM', P .. 'kept-of:' .. record.personId, id)
  redis.call('HDEL', P .. 'kept-accounts', redis.call('HGET', P .. 'kept-keys', id) or '')
  redis.call('HDEL', P .. 'kept-keys', id)
  return text
end
local function append(list, more)
  for _, each in ipairs(more) do table.insert(list, each) end
end
`;

const script = (body: string) => shared + body;

export const scripts = {
  addAttempt: script(`
    local id, text, ends, browser, beganAt, most, tombstone = unpack(ARGV)
    local index = P .. 'attempts-of:' .. browser
    -- Whoever begins sign-ins by the million leaves as many: what they leave is short.
    redis.call('SET', P .. 'attempt:' .. id, text, 'EXAT', ends + 600)
    redis.call('ZADD', index, nextScore(tonumber(beganAt)), id)
    redis.call('ZADD', P .. 'attempt-ends', ends, id .. ' ' .. tombstone)
    outlive(index, ends)
    outlive(P .. 'attempt-ends', ends)
    for _, each in ipairs(redis.call('ZRANGE', index, 0, -1)) do
      local isOpen = redis.call('EXISTS', P .. 'attempt:' .. each) == 1 and redis.call('EXISTS', P .. 'attempt-used:' .. each) == 0
      if not isOpen then redis.call('ZREM', index, each) end
    end
    local excess = redis.call('ZCARD', index) - tonumber(most)
    if excess > 0 then
      for _, each in ipairs(redis.call('ZRANGE', index, 0, excess - 1)) do
        redis.call('DEL', P .. 'attempt:' .. each)
        redis.call('ZREM', index, each)
      end
    end`),
  useAttempt: script(`
    local id, usedAt = unpack(ARGV)
    local lifetime = redis.call('EXPIRETIME', P .. 'attempt:' .. id)
    if lifetime < 0 then return 0 end
    if redis.call('SET', P .. 'attempt-used:' .. id, usedAt, 'NX', 'EXAT', lifetime) then return 1 end
    return 0`),
  changeSession: script(`
    local id, before, after = unpack(ARGV)
    if redis.call('GET', P .. 'session:' .. id) ~= before then return 0 end
    redis.call('SET', P .. 'session:' .. id, after, 'KEEPTTL')
    return 1`),
  saveSignIn: script(`
    local identityKey, identity, person, sessionText, connection, previous = unpack(ARGV)
    local known = redis.call('GET', P .. identityKey)
    local session = cjson.decode(sessionText)
    if known then
      if cjson.decode(known).personId ~= session.personId then return false end
      if redis.call('EXISTS', P .. 'person:' .. session.personId) == 0 then return false end
    end
    local noted = cjson.decode(identity)
    redis.call('SET', P .. identityKey, identity)
    redis.call('ZADD', P .. 'identities:' .. session.personId, 'NX', nextScore(noted.createdAt), identityKey)
    redis.call('SET', P .. 'person:' .. session.personId, person)
    redis.call('SET', P .. 'session:' .. session.id, sessionText, 'EXAT', math.ceil(session.expiresAt) + DAY)
    local score = nextScore(session.createdAt)
    redis.call('ZADD', P .. 'session-ends', session.expiresAt, session.id)
    outlive(P .. 'session-ends', session.expiresAt)
    local indexes = { 'sessions', 'sessions-of:' .. session.personId, 'sessions-by:' .. session.issuer .. ' ' .. session.subject }
    if session.providerSessionId then
      table.insert(indexes, 'sessions-by-sid:' .. session.issuer .. ' ' .. session.providerSessionId)
    end
    for _, index in ipairs(indexes) do
      redis.call('ZADD', P .. index, score, session.id)
      outlive(P .. index, session.expiresAt)
    end
    if connection ~= '' then putConnection(connection) end
    if previous == '' then return {} end
    for _, text in ipairs(connectionsOf(previous)) do
      local record = cjson.decode(text)
      if record.personId == session.personId and record.provider ~= session.provider then
        putConnection(text, session.id)
        redis.call('HDEL', P .. 'connections:' .. previous, record.provider, record.provider .. ' version')
        redis.call('SET', P .. 'moved:' .. record.id, session.id, 'EXAT', math.ceil(session.expiresAt) + DAY)
      end
    end
    return dropSession(previous)`),
  linkIdentity: script(`
    local sessionId, personId, identityKey, identity, connection = unpack(ARGV)
    if redis.call('EXISTS', P .. 'session:' .. sessionId) == 0 then return { 'gone' } end
    local known = redis.call('GET', P .. identityKey)
    if known and cjson.decode(known).personId ~= personId then return { 'taken' } end
    redis.call('SET', P .. identityKey, identity)
    redis.call('ZADD', P .. 'identities:' .. personId, 'NX', nextScore(cjson.decode(identity).createdAt), identityKey)
    if connection ~= '' then
      local record = cjson.decode(connection)
      local before = redis.call('HGET', P .. 'connections:' .. sessionId, record.provider)
      if not before then
        putConnection(connection)
      elseif cjson.decode(before).subject == record.subject then
        putConnection(connection)
        return { 'linked', before }
      end
    end
    return { 'linked' }`),
  unlinkIdentity: script(`
    local personId, issuer, subject, identityKey, providers = unpack(ARGV)
    local goneText = redis.call('GET', P .. identityKey)
    if not goneText then return false end
    local gone = cjson.decode(goneText)
    if gone.personId ~= personId then return false end
    local usable = {}
    for _, name in ipairs(cjson.decode(providers)) do usable[name] = true end
    local isLast = true
    for _, key in ipairs(redis.call('ZRANGE', P .. 'identities:' .. personId, 0, -1)) do
      local text = redis.call('GET', P .. key)
      if key ~= identityKey and text and usable[cjson.decode(text).provider] then isLast = false end
    end
    if isLast then return false end
    local held = {}
    for _, id in ipairs(redis.call('ZRANGE', P .. 'sessions-by:' .. issuer .. ' ' .. subject, 0, -1)) do
      append(held, dropSession(id))
    end
    for _, id in ipairs(redis.call('ZRANGE', P .. 'sessions-of:' .. personId, 0, -1)) do
      local text = redis.call('HGET', P .. 'connections:' .. id, gone.provider)
      if text and cjson.decode(text).subject == subject then
        table.insert(held, text)
        redis.call('HDEL', P .. 'connections:' .. id, gone.provider, gone.provider .. ' version')
      end
    end
    redis.call('DEL', P .. identityKey)
    redis.call('ZREM', P .. 'identities:' .. personId, identityKey)
    return held`),
  endSession: script(`return dropSession(ARGV[1])`),
  removePerson: script(`
    local personId = ARGV[1]
    local held = {}
    for _, id in ipairs(redis.call('ZRANGE', P .. 'sessions-of:' .. personId, 0, -1)) do append(held, dropSession(id)) end
    for _, key in ipairs(redis.call('ZRANGE', P .. 'identities:' .. personId, 0, -1)) do redis.call('DEL', P .. key) end
    redis.call('DEL', P .. 'identities:' .. personId, P .. 'sessions-of:' .. personId, P .. 'person:' .. personId)
    for _, id in ipairs(redis.call('ZRANGE', P .. 'kept-of:' .. personId, 0, -1)) do table.insert(held, dropKept(id)) end
    return held`),
  keepConnection: script(`
    local id, personId, account, connectedAt, text = unpack(ARGV)
    local before = redis.call('HGET', P .. 'kept-accounts', account)
    local gone = before and dropKept(before)
    local score = nextScore(tonumber(connectedAt))
    redis.call('SET', P .. 'kept:' .. id, text)
    redis.call('ZADD', P .. 'kept', score, id)
    redis.call('ZADD', P .. 'kept-of:' .. personId, score, id)
    redis.call('HSET', P .. 'kept-accounts', account, id)
    redis.call('HSET', P .. 'kept-keys', id, account)
    return gone and { gone } or {}`),
  touchKept: script(`
    local id, at = unpack(ARGV)
    if redis.call('EXISTS', P .. 'kept:' .. id) == 1 then redis.call('SET', P .. 'kept-used:' .. id, at) end`),
  dropKept: script(`return dropKept(ARGV[1])`),
  useMark: script(`
    local id, expiresAt, now = unpack(ARGV)
    local before = redis.call('GET', P .. 'mark:' .. id)
    if before and tonumber(before) > tonumber(now) then return 0 end
    redis.call('SET', P .. 'mark:' .. id, expiresAt, 'EXAT', expiresAt)
    return 1`),
  // The lease itself ends by the server's clock; that there was one is remembered for a while. Its value is the number and
  // the owner, and room for what is to be written under it.
  takeLease: script(`
    local name, owner, milliseconds, room = unpack(ARGV)
    if redis.call('EXISTS', P .. 'lease:' .. name) == 1 then return { 'held' } end
    local number = redis.call('INCR', P .. 'lease-number')
    redis.call('SET', P .. 'lease:' .. name, number .. ' ' .. owner .. ' ' .. string.rep('.', room), 'PX', milliseconds)
    local isHeir = redis.call('EXISTS', P .. 'lease-past:' .. name) == 1
    redis.call('SET', P .. 'lease-past:' .. name, number .. ' ' .. owner, 'PX', milliseconds + 86400000)
    return { isHeir and 'taken over' or 'taken', number }`),
  releaseLease: script(`
    local name, owner = unpack(ARGV)
    local last = redis.call('GET', P .. 'lease-past:' .. name)
    if last and string.sub(last, string.find(last, ' ') + 1) == owner then
      redis.call('DEL', P .. 'lease:' .. name, P .. 'lease-past:' .. name)
    end`),
  replaceConnection: script(`
    local named, provider, id, version, text, leaseName, leaseNumber = unpack(ARGV)
    if leaseName then
      local last = redis.call('GET', P .. 'lease-past:' .. leaseName)
      if not last or string.sub(last, 1, string.find(last, ' ') - 1) ~= leaseNumber then return 0 end
    end
    if named == '' then
      local before = redis.call('GET', P .. 'kept:' .. id)
      if not before or cjson.decode(before).version ~= tonumber(version) then return 0 end
      redis.call('SET', P .. 'kept:' .. id, text)
      return 1
    end
    local sessionId = redis.call('GET', P .. 'moved:' .. id) or named
    local key = P .. 'connections:' .. sessionId
    if redis.call('HGET', key, provider .. ' version') ~= id .. ' ' .. version then return 0 end
    putConnection(text, sessionId)
    return 1`),
  // Records end by themselves a day later; here they end when the app's clock says so, and what led to them is cleared away.
  sweep: script(`
    local now, most = unpack(ARGV)
    local held = {}
    local sessions = redis.call('ZRANGE', P .. 'session-ends', '-inf', now, 'BYSCORE', 'LIMIT', 0, most)
    for _, id in ipairs(sessions) do append(held, dropSession(id)) end
    local attempts = redis.call('ZRANGE', P .. 'attempt-ends', '-inf', now, 'BYSCORE', 'WITHSCORES', 'LIMIT', 0, most)
    for i = 1, #attempts, 2 do
      local space = string.find(attempts[i], ' ')
      local until_ = math.ceil(tonumber(attempts[i + 1])) + DAY
      redis.call('DEL', P .. 'attempt:' .. string.sub(attempts[i], 1, space - 1))
      redis.call('SET', P .. 'mark:' .. string.sub(attempts[i], space + 1), until_, 'EXAT', until_)
      redis.call('ZREM', P .. 'attempt-ends', attempts[i])
    end
    return { #sessions + #attempts / 2, held }`),
  // By itself, without what the others share: it runs with every request.
  findSession: `
    local session = redis.call('GET', KEYS[1] .. 'session:' .. ARGV[1])
    if not session then return false end
    return { session, redis.call('GET', KEYS[1] .. 'person:' .. cjson.decode(session).personId) }`,
} as const;
