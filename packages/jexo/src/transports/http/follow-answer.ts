import { isJexoError, JexoError, messageOf } from '../../errors.js';
import type { RequestId } from '../../protocol/json-rpc.js';
import { noProgress, type HttpConnection } from './http-connection.js';
import { refused } from './link-errors.js';
import { isStream } from './read-body.js';

/** Reads the stream of a POST until it owes no answer, resuming it as often as it is lost ("Resumability and Redelivery"). */
export async function followAnswer(
  connection: HttpConnection,
  first: Response,
  firstNote: string,
  ids: readonly RequestId[],
  controller: AbortController,
): Promise<void> {
  const { url, sessionId: usedSession } = connection;
  const progress = noProgress();
  let response: Response | undefined = first;
  let note = firstNote;
  let failures = 0;
  for (let attempt = 0; ; attempt++) {
    let lost: unknown;
    const before = progress.events;
    try {
      if (response?.body) await connection.read(response.body, note, progress);
    } catch (error) {
      if (isJexoError(error)) throw error;
      lost = error;
    }
    if (!connection.isOwed(ids, controller)) return;
    if (progress.events !== before) attempt = 0;
    if (progress.lastEventId === undefined || failures >= connection.maxRetries) throw lostBeforeAnswer(url, lost);
    await connection.backOff(attempt, progress.retryMs);
    if (!connection.isOwed(ids, controller)) return;
    connection.onReconnect?.(note);
    note = 'GET stream, resumed';
    try {
      response = await connection.resume(progress, controller);
    } catch (error) {
      if (isJexoError(error) && error.code === 'JEXO_HTTP_STATUS') throw error;
      response = undefined; // still away: the next attempt comes later
      failures++;
      continue;
    }
    if (response.ok && isStream(response)) {
      failures = 0;
      continue;
    }
    await refuseIfFinal(connection, response, usedSession);
    await response.body?.cancel();
    response = undefined;
    failures++;
  }
}

function lostBeforeAnswer(url: string, lost: unknown): JexoError {
  const why = lost === undefined ? '' : `: ${messageOf(lost)}`;
  return new JexoError('JEXO_CONNECT', `The connection to ${url} was lost before the answer came${why}.`, { where: url, cause: lost });
}

/** @throws JexoError when the answer will not come, however often it is asked for */
async function refuseIfFinal(connection: HttpConnection, response: Response, usedSession: string | undefined): Promise<void> {
  const { url } = connection;
  if (response.status === 404 && usedSession !== undefined) {
    await response.body?.cancel();
    // The server has forgotten the session, and the answer with it; the next request finds a new one.
    void connection.renew(usedSession).catch(() => undefined);
    throw new JexoError('JEXO_SESSION_LOST', `${url} has forgotten this session, and what was called in it is lost.`, {
      where: url,
      next: 'Call again: a new session is made.',
    });
  }
  if (response.status < 500 && response.status !== 429) throw await refused(url, response, false);
}
