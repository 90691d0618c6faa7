/**
 * What has to happen in one step, in Lua. All keys of one script carry the same hash tag, so that a cluster runs it on one node.
 *
 * Events of a session: a list of `stream|seq|text`, oldest first; a hash with, for each stream, its last number, the highest number that is no longer kept,
 * and whether it has ended; the bytes that are kept.
 */
export const scripts = {
  /** KEYS: list, marks. ARGV: stream, seq, text, most events, most bytes, life in ms. */
  append: `
local list, marks = KEYS[1], KEYS[2]
local stream, seq, text = ARGV[1], ARGV[2], ARGV[3]
redis.call('RPUSH', list, stream .. '|' .. seq .. '|' .. text)
redis.call('HSET', marks, stream .. '.last', seq)
local bytes = redis.call('HINCRBY', marks, 'bytes', #text)
local count = redis.call('LLEN', list)
while count > 0 and (count > tonumber(ARGV[4]) or bytes > tonumber(ARGV[5])) do
  local old = redis.call('LPOP', list)
  local s, q, t = string.match(old, '^(%d+)|(%d+)|(.*)$')
  bytes = redis.call('HINCRBY', marks, 'bytes', -#t)
  if redis.call('HEXISTS', marks, s .. '.last') == 1 then redis.call('HSET', marks, s .. '.gone', q) end
  count = count - 1
end
redis.call('PEXPIRE', list, ARGV[6])
redis.call('PEXPIRE', marks, ARGV[6])
return count`,
  /** KEYS: list, marks. ARGV: stream, seq. Gives false for what is not known, else: ended or not, who holds it, then texts by number. */
  since: `
local list, marks = KEYS[1], KEYS[2]
local stream, seq = ARGV[1], tonumber(ARGV[2])
local last = redis.call('HGET', marks, stream .. '.last')
if not last then return false end
local gone = tonumber(redis.call('HGET', marks, stream .. '.gone') or '0')
local by = redis.call('HGET', marks, stream .. '.by') or ''
-- A client may have got what its process had no time to keep before it died.
if seq < gone or (seq > tonumber(last) and by == '') then return false end
local found = { redis.call('HGET', marks, stream .. '.end') or '0', by }
local start = stream .. '|'
for _, each in ipairs(redis.call('LRANGE', list, 0, -1)) do
  if string.sub(each, 1, #start) == start then
    local q, t = string.match(each, '^%d+|(%d+)|(.*)$')
    if tonumber(q) > seq then
      table.insert(found, q)
      table.insert(found, t)
    end
  end
end
return found`,
  /** KEYS: marks. ARGV: stream, the dead holder, the new one. 1 for the one who takes it over. */
  takeOver: `
local field = ARGV[1] .. '.by'
local by = redis.call('HGET', KEYS[1], field)
if not by then return 0 end
local holder = string.match(by, '^[^ ]*')
if holder ~= ARGV[2] then return 0 end
redis.call('HSET', KEYS[1], field, ARGV[3] .. string.sub(by, #holder + 1))
return 1`,
  /** KEYS: marks. ARGV: stream, most ended streams that are remembered. */
  end: `
redis.call('HSET', KEYS[1], ARGV[1] .. '.end', '1')
local ended = redis.call('HINCRBY', KEYS[1], 'ended', 1)
if ended > tonumber(ARGV[2]) then
  local fields = redis.call('HKEYS', KEYS[1])
  for _, field in ipairs(fields) do
    local stream = string.match(field, '^(%d+)%.end$')
    if stream and stream ~= ARGV[1] then
      redis.call('HDEL', KEYS[1], stream .. '.end', stream .. '.last', stream .. '.gone', stream .. '.by')
      redis.call('HINCRBY', KEYS[1], 'ended', -1)
      break
    end
  end
end
return 1`,
  /** KEYS: task. ARGV: record, 1 when it has an outcome, life in ms, run. 0 when the task had an outcome before, or a later run. */
  saveTask: `
local done, run = unpack(redis.call('HMGET', KEYS[1], 'done', 'run'))
if done == '1' or tonumber(run or '0') > tonumber(ARGV[4]) then return 0 end
redis.call('HSET', KEYS[1], 'record', ARGV[1], 'done', ARGV[2], 'run', ARGV[4])
redis.call('PEXPIRE', KEYS[1], ARGV[3])
return 1`,
  /** KEYS: count. ARGV: most, window in ms. Milliseconds to wait, or 0. */
  take: `
local count = redis.call('INCR', KEYS[1])
if count == 1 then redis.call('PEXPIRE', KEYS[1], ARGV[2]) end
if count <= tonumber(ARGV[1]) then return 0 end
local left = redis.call('PTTL', KEYS[1])
if left < 1 then redis.call('PEXPIRE', KEYS[1], ARGV[2]) left = tonumber(ARGV[2]) end
return left`,
  /** KEYS: state. ARGV: the version that was read, the new value, life in ms. The new version, or 0 when another one came first. */
  swap: `
local version = redis.call('HGET', KEYS[1], 'v') or '0'
if version ~= ARGV[1] then return 0 end
local next = tonumber(version) + 1
redis.call('HSET', KEYS[1], 'v', next, 'value', ARGV[2])
redis.call('PEXPIRE', KEYS[1], ARGV[3])
return next`,
} as const;

export type ScriptName = keyof typeof scripts;
