import { noProgress, type HttpConnection, type Progress } from './http-connection.js';
import { shown } from './judge-answer.js';
import { isStream, retryAfterOf } from './read-body.js';

/**
 * The stream for what the server says of its own accord, as long as the session lives; a server may have none (405). Losing it loses
 * only unasked-for messages, so it ends nothing (Transports, "Listening for Messages from the Server").
 */
export async function listenForUnasked(connection: HttpConnection, session: string | undefined): Promise<void> {
  const progress = noProgress();
  const controller = connection.begin();
  const isOver = () => connection.isEnding || connection.sessionId !== session;
  // Before there was a stream, 404 says that there is none; later, that the session is gone.
  let hadStream = false;
  try {
    for (let attempt = 0; !isOver(); attempt++) {
      const response = await connection.resume(progress, controller).catch(() => undefined);
      if (isOver()) return void (await response?.body?.cancel());
      let wanted: number | undefined;
      if (response?.ok && isStream(response)) {
        const before = progress.events;
        hadStream = true;
        await connection.read(response.body!, 'GET stream', progress).catch(() => undefined);
        if (progress.events !== before) attempt = 0;
        wanted = progress.retryMs;
      } else if (response !== undefined) {
        await response.body?.cancel();
        if (response.status === 404 && session !== undefined && hadStream)
          return await connection.renew(session).catch(() => connection.onReconnect?.('GET stream, given up'));
        if (hasNoStream(connection, response, progress, session)) return;
        wanted = retryAfterOf(response.headers);
      }
      await connection.backOff(attempt, wanted);
      if (!isOver()) connection.onReconnect?.('GET stream');
    }
  } finally {
    connection.end(controller);
  }
}

/** True when the answer says that there is no such stream, and asking again is of no use. */
function hasNoStream({ onDeviation }: HttpConnection, response: Response, progress: Progress, session: string | undefined): boolean {
  const { status } = response;
  if (status === 400 && progress.lastEventId !== undefined) {
    progress.lastEventId = undefined; // what was missed is not kept any more
    return false;
  }
  if (status >= 500 || status === 429 || status === 408) return false;
  if (status !== 405 && session !== undefined)
    onDeviation?.({
      kind: 'headers',
      account: `A GET is answered with ${shown(response)}: a server without a stream of its own answers 405.`,
    });
  return true;
}
