import type { Client, ClientOptions } from '../client/connect-link.js';
import type { Asker } from '../client/answer-server.js';
import { JexoError } from '../errors.js';
import type { Call } from '../offers/call.js';
import type { Session } from '../offers/session.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import { isRevision } from '../protocol/revisions.js';
import type { LogMessage } from '../protocol/types.js';

/** Opens a connection to the server behind the bridge. */
export type OpenUpstream = (options: ClientOptions) => Promise<Client>;

/** A connection to the server behind, with the calls that are made over it. */
export interface Leg {
  readonly client: Client;
  /** Makes a request on behalf of a call: what the server asks meanwhile goes to that call's client. */
  during<T>(call: Call, work: (client: Client) => Promise<T>): Promise<T>;
}

/** Connections to the server behind the bridge, one for each caller's session, or one for all. */
export interface Legs {
  of(call: Call): Promise<Leg>;
  /** The connection that listed the offers, for what belongs to no call. */
  any(): Promise<Client>;
  /** Hands options for a connection that all share; its requests are related to the calling client. */
  sharedOptions(): ClientOptions;
  closeAll(): Promise<void>;
}

interface LegsOptions {
  readonly open: OpenUpstream;
  /** The connection that all share, where they do. */
  readonly shared: (() => Promise<Client>) | undefined;
  readonly main: () => Promise<Client>;
  /** Called when a request could not reach the server. */
  readonly onUnreached: () => void;
  readonly mostSessions: number;
  /** A connection without calls is closed after so many milliseconds. */
  readonly idleMs: number | undefined;
}

/** A call to a tool may take as long as the caller waits. */
export const patienceMs = 600_000;

// eslint-disable-next-line max-lines-per-function -- the ways to a connection share what is open
export function createLegs({ open, shared, main, onUnreached, mostSessions, idleMs }: LegsOptions): Legs {
  const bySession = new Map<Session, Promise<OwnLeg>>();
  const common = createRunning();
  let sharing: Leg | undefined;
  const drop = (session: Session) => {
    const leg = bySession.get(session);
    bySession.delete(session);
    void leg?.then(
      ({ client }) => client.close(),
      () => undefined,
    );
  };
  const own = async (call: Call, isGone: () => void): Promise<OwnLeg> => {
    const { session } = call;
    const running = createRunning();
    let stopHearing: () => void = () => undefined;
    const ended = () => {
      stopHearing();
      isGone();
    };
    const roots = session.can('roots') ? await call.roots().catch(() => []) : undefined;
    const client = await open({
      ...answersFor(running, (ability) => session.can(ability)),
      ...(roots !== undefined && { roots }),
      ...(session.client !== undefined && { info: session.client }),
      // The same revision on both sides: each says some things in its own way.
      ...(isRevision(session.revision) && { revision: session.revision }),
      timeoutMs: patienceMs,
      onLog: ({ level, data, logger }) => session.log(level, data, logger),
      onPageDone: (id) => session.finishPage(id),
      onClosed: () => ended(),
    });
    await hearEverything(client);
    running.touch();
    let isRootsOld = false;
    stopHearing = session.onRootsChanged(() => (isRootsOld = true));
    return {
      ...legOver(client, running, onUnreached, async (next) => {
        if (!isRootsOld) return;
        isRootsOld = false;
        client.setRoots(await next.roots().catch(() => []));
      }),
      running,
    };
  };
  const sweep = () => {
    for (const [session, leg] of bySession)
      void leg.then(
        ({ running }) => running.isIdleFor(idleMs!) && drop(session),
        () => undefined,
      );
  };
  let sweeping: NodeJS.Timeout | undefined;
  const sweepSometimes = () => (idleMs === undefined ? undefined : setInterval(sweep, Math.max(50, idleMs / 4)).unref());
  return {
    async of(call) {
      if (shared !== undefined) {
        const client = await shared();
        if (sharing?.client !== client) sharing = legOver(client, common, onUnreached, () => Promise.resolve());
        return sharing;
      }
      const { session } = call;
      let leg = bySession.get(session);
      if (leg === undefined) {
        if (bySession.size >= mostSessions)
          throw new JexoError('JEXO_TOO_LARGE', `More than ${mostSessions} sessions use the server behind at once.`, {
            next: 'Try again later.',
          });
        // One that closes late must not take its successor out of the list.
        const made: Promise<OwnLeg> = own(call, () => bySession.get(session) === made && bySession.delete(session));
        leg = made;
        bySession.set(session, made);
        made.catch(() => bySession.get(session) === made && bySession.delete(session));
        session.onEnd(() => drop(session));
        sweeping ??= sweepSometimes();
      }
      const found = await leg;
      found.running.touch();
      return found;
    },
    any: main,
    sharedOptions: () => ({
      ...answersFor(common, () => true),
      timeoutMs: patienceMs,
      onLog: (message: LogMessage) => common.last()?.log(message.level, message.data, message.logger),
      onPageDone: (id: string) => common.sessions().forEach((session) => session.finishPage(id)),
    }),
    async closeAll() {
      clearInterval(sweeping);
      sweeping = undefined;
      const all = [...bySession.values()];
      bySession.clear();
      await Promise.allSettled(all.map(async (leg) => (await leg).client.close()));
    },
  };
}

interface OwnLeg extends Leg {
  readonly running: Running;
}

/** Which messages a client hears is decided in front of the bridge: behind it, all are wanted. */
export async function hearEverything(client: Client): Promise<void> {
  if (client.server.capabilities.logging === undefined) return;
  await client.setLogLevel('debug').catch(() => undefined); // a server that minds sends what it sends
}

const unreached = new Set(['JEXO_CONNECT', 'JEXO_CLOSED', 'JEXO_SERVER_EXITED', 'JEXO_TIMEOUT', 'JEXO_SESSION_LOST']);

function legOver(client: Client, running: Running, onUnreached: () => void, prepare: (call: Call) => Promise<void>): Leg {
  return {
    client,
    async during(call, work) {
      const done = running.begin(call);
      try {
        await prepare(call);
        return await work(client);
      } catch (error) {
        if (error instanceof JexoError && unreached.has(error.code)) onUnreached();
        throw error;
      } finally {
        done();
      }
    },
  };
}

/** The calls that are in flight over one connection. */
interface Running {
  begin(call: Call): () => void;
  last(): Call | undefined;
  sessions(): readonly Session[];
  /** Counts idleness from now. */
  touch(): void;
  isIdleFor(ms: number): boolean;
}

function createRunning(): Running {
  const calls = new Set<Call>();
  let idleSince = Date.now();
  return {
    begin(call) {
      calls.add(call);
      return () => {
        calls.delete(call);
        idleSince = Date.now();
      };
    },
    last: () => [...calls].at(-1),
    sessions: () => [...new Set([...calls].map(({ session }) => session))],
    touch: () => void (idleSince = Date.now()),
    isIdleFor: (ms) => calls.size === 0 && Date.now() - idleSince >= ms,
  };
}

type Can = Session['can'];

/** What the server behind may ask, as far as those in front can answer it. */
function answersFor(running: Running, can: Can): ClientOptions {
  const forward = ({ server }: Asker): Call => {
    const call = running.last();
    if (call === undefined) throw new RpcError(errorCodes.internalError, `No call to ${server} is running whose client could be asked`);
    return call;
  };
  const ended = (error: unknown): { action: 'decline' | 'cancel' } => {
    const { data } = error as { data?: { action?: 'decline' | 'cancel' } };
    if (error instanceof JexoError && error.code === 'JEXO_NOT_ACCEPTED') return { action: data?.action ?? 'cancel' };
    if (error instanceof JexoError && error.code === 'JEXO_NOT_SUPPORTED') throw new RpcError(errorCodes.methodNotFound, error.message);
    throw error;
  };
  return {
    ...((can('elicitation.form') || can('elicitation.url')) && {
      elicitation: {
        ...(can('elicitation.form') && {
          form: ({ message, requestedSchema, asker }) =>
            forward(asker)
              .passOn({ message, requestedSchema })
              .catch((error: unknown) => ended(error)),
        }),
        ...(can('elicitation.url') && {
          url: ({ message, url, elicitationId, asker }) =>
            forward(asker)
              .askByUrl(message, url, { id: elicitationId })
              .then(
                () => ({ action: 'accept' as const }),
                (error: unknown) => ended(error),
              ),
        }),
      },
    }),
    ...(can('sampling') && {
      sampling: {
        create: (request, _signal, asker) => forward(asker).generate(request),
        tools: can('sampling.tools'),
        context: can('sampling.context'),
      },
    }),
  };
}
