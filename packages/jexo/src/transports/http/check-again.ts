import type { Clock } from '../../engine/clock.js';
import type { Caller } from '../../engine/servable.js';
import { after } from '../../engine/store.js';
import { isStillLetIn, type Authenticator } from './authenticate.js';
import type { EventStream, HttpRequest } from './http-types.js';

/** Ends what an open stream belongs to, once its caller would no longer be let in. */
export type CheckAgain = (request: HttpRequest, caller: Caller, sink: EventStream, end: () => void) => void;

/** A key that was revoked goes on reading for this long at most. */
const everyMs = 5000;

/** Requests are checked one by one, but a stream may stay open for days: its caller is checked again and again. */
export function checkAgain(
  auth: Authenticator | undefined,
  clock: Clock,
  onFault: (error: unknown, reference: string) => void,
): CheckAgain {
  if (auth === undefined) return () => undefined;
  const open = new Map<EventStream, () => void>();
  let timer: unknown;
  const look = () => {
    timer = undefined;
    for (const check of [...open.values()]) check();
    if (open.size > 0) timer = clock.after(everyMs, look);
  };
  return (request, caller, sink, end) => {
    const check = () => {
      try {
        const found = after(isStillLetIn(auth, request, caller), (isLetIn) => (isLetIn ? undefined : end()));
        if (found instanceof Promise) found.catch((error: unknown) => onFault(error, 'auth'));
      } catch (error) {
        // Who cannot be asked has let nobody in; the next look may find out.
        onFault(error, 'auth');
      }
    };
    open.set(sink, check);
    sink.onClose(() => open.delete(sink));
    timer ??= clock.after(everyMs, look);
  };
}
