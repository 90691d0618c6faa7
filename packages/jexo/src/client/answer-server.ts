import type { Peer, RequestHandler } from '../engine/peer.js';
import { relatedTaskKey } from '../engine/task-entry.js';
import { JexoError } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';
import { compileSchema, describeIssues } from '../offers/schema.js';
import { grammarOf } from '../protocol/grammar.js';
import { errorCodes, RpcError, type Params } from '../protocol/json-rpc.js';
import type { Revision } from '../protocol/revisions.js';
import { unbalanced } from '../protocol/sampling.js';
import { shapeSamplingAnswer } from '../protocol/shape-down.js';
import type { Pages } from './pages.js';
import type { ClientCapabilities, CreateMessageParams, CreateMessageResult, ElicitResult, JsonSchema, Root } from '../protocol/types.js';

/** Who asks: always show it to the person. */
export interface Asker {
  /** What the server calls itself. */
  readonly server: string;
  /** The tool that is running, where it can only be one. */
  readonly tool?: string;
  /** The task the question belongs to. */
  readonly task?: string;
}

/** A question of the server for a person. Always show who asks, and always let them decline or close it. */
export interface FormQuestion {
  /** The question itself. */
  readonly message: string;
  /** Flat: texts, numbers, yes or no, choices. */
  readonly requestedSchema: JsonSchema;
  /** Who asks. */
  readonly asker: Asker;
  /** Fires when nobody waits for the answer any more. */
  readonly signal: AbortSignal;
}
/** A page the server wants a person to visit. Show the whole address and open it only when they agree. */
export interface PageQuestion {
  /** Why the person should visit it. */
  readonly message: string;
  /** The page’s address. */
  readonly url: string;
  /** By which the server says that the person is done. */
  readonly elicitationId: string;
  /** What a person should know of the address, as sentences: that it is not encrypted, that letters may deceive. */
  readonly warnings: readonly string[];
  /** Who asks. */
  readonly asker: Asker;
  /** Fires when nobody waits for the answer any more. */
  readonly signal: AbortSignal;
}
/** An answer now or later. */
export type Answered<T> = T | Promise<T>;

/** What the client does for the server. Only what is given here is declared to it. */
export interface ServerAnswers {
  /** Questions for the person at the client. */
  readonly elicitation?: {
    readonly form?: (question: FormQuestion) => Answered<ElicitResult>;
    readonly url?: (question: PageQuestion) => Answered<Pick<ElicitResult, 'action'>>;
  };
  /** Requests for the model behind the client. */
  readonly sampling?: {
    /** Throw `RpcError(errorCodes.userRejected, …)` when the person refuses. */
    readonly create: (request: CreateMessageParams, signal: AbortSignal, asker: Asker) => Answered<CreateMessageResult>;
    /** Asked before every request: false refuses it in the person's name. Default: `create` sees to it. */
    readonly consent?: (request: CreateMessageParams, asker: Asker) => Answered<boolean>;
    /** True when the model can be given tools. */
    readonly tools?: boolean;
    /** True when context of servers can be included. */
    readonly context?: boolean;
    /** Requests at once; further ones are refused. Default 4. */
    readonly maxConcurrent?: number;
    /** Rounds of tool use one request may look back on; longer ones are refused. Default 25. */
    readonly maxRounds?: number;
  };
  /** Folders the server may look at, as `file://` URIs. Give an empty list to name them later by `setRoots`. */
  readonly roots?: readonly Root[];
}

/** What the client is doing while it is asked. */
export interface Running {
  /** Names of the tools whose answers are waited for. */
  readonly tools: Iterable<string>;
  server(): string;
}

export interface ServerAnswering {
  readonly capabilities: ClientCapabilities;
  readonly requests: ReadonlyMap<string, RequestHandler>;
  /** @throws JexoError JEXO_DEFINITION for a URI that is no file's */
  setRoots(roots: readonly Root[]): void;
  /**
   * Sends the person to the pages that an error wants visited first, and waits until they are done there (Client features,
   * "Elicitation", "URL Elicitation Required Error"). False when it is another error, or the person does not want to.
   */
  visitPages(error: unknown, signal: AbortSignal | undefined): Promise<boolean>;
}

/** The handlers for what servers ask of a client, and the capabilities that go with them. */
// eslint-disable-next-line max-lines-per-function -- the handlers share what has been declared
export function answerServer({ elicitation, sampling, roots }: ServerAnswers, pages: Pages, running: Running): ServerAnswering {
  let named = checkRoots(roots ?? []);
  const requests = new Map<string, RequestHandler>([['ping', () => ({})]]);
  const checked =
    (handler: RequestHandler): RequestHandler =>
    (params, exchange) => {
      const known = grammarOf(exchange.peer.revision).requests.server[exchange.method];
      // What the revision lacks is undeclared, whatever we said before it was known.
      if (known === undefined)
        throw new RpcError(errorCodes.methodNotFound, `Method not found: ${exchange.method} (revision ${exchange.peer.revision} has none)`);
      const why = known.params(params, 'params');
      if (why !== undefined) throw new RpcError(errorCodes.invalidParams, `Invalid params of ${exchange.method}: ${why}`);
      return withTask(handler(params, exchange), params);
    };
  const askerOf = (peer: Peer, params: Params): Asker => {
    const task = (params._meta as Params | undefined)?.[relatedTaskKey]?.taskId as unknown;
    const [tool, another] = [...running.tools];
    return {
      server: peer.remote?.info.title ?? peer.remote?.info.name ?? 'the server',
      ...(tool !== undefined && another === undefined && { tool }),
      ...(typeof task === 'string' && { task }),
    };
  };
  if (roots !== undefined)
    requests.set(
      'roots/list',
      checked(() => ({ roots: named })),
    );
  if (sampling !== undefined) {
    const answerBy = async (request: CreateMessageParams, asker: Asker, revision: Revision, signal: AbortSignal): Promise<object> => {
      if (sampling.consent !== undefined && !(await sampling.consent(request, asker)))
        throw new RpcError(errorCodes.userRejected, 'The person refused the request');
      // Without tools to choose from, none can be chosen.
      const { tools: _, ...plain } = request;
      const toolUse = request.tools === undefined ? 'none' : (request.toolChoice?.mode ?? 'auto');
      const answer = await sampling.create(toolUse === 'none' ? plain : request, signal, asker);
      return shapeSamplingAnswer(answer, revision, toolUse);
    };
    let working = 0;
    const { maxConcurrent = 4, maxRounds = 25 } = sampling;
    requests.set(
      'sampling/createMessage',
      checked((params, { peer, signal }) => {
        const request = params as unknown as CreateMessageParams;
        if (!sampling.tools && (request.tools !== undefined || request.toolChoice !== undefined))
          throw new RpcError(errorCodes.invalidParams, 'This client did not declare sampling.tools');
        const why = unbalanced(request.messages);
        if (why !== undefined) throw new RpcError(errorCodes.invalidParams, `sampling/createMessage: ${why}`);
        if (roundsOf(request.messages) > maxRounds)
          throw new RpcError(errorCodes.invalidParams, `sampling/createMessage: more than ${maxRounds} rounds of tool use`);
        if (working >= maxConcurrent)
          throw new RpcError(
            errorCodes.internalError,
            `This client answers ${maxConcurrent} requests of sampling at once; try again later`,
          );
        working++;
        return answerBy(request, askerOf(peer, params), peer.revision, signal).finally(() => working--);
      }),
    );
  }
  if (elicitation?.form !== undefined || elicitation?.url !== undefined) {
    requests.set(
      'elicitation/create',
      checked((params, { peer, signal }) => {
        const mode = (params.mode as 'form' | 'url' | undefined) ?? 'form'; // a missing mode means form
        const handler = elicitation[mode];
        if (handler === undefined) throw new RpcError(errorCodes.invalidParams, `This client did not declare elicitation by ${mode}`);
        const asker = askerOf(peer, params);
        return mode === 'url'
          ? askByPage(elicitation.url!, params, { asker, signal }, pages)
          : askByForm(elicitation.form!, params, { asker, signal });
      }),
    );
  }
  return {
    requests,
    capabilities: {
      ...(roots !== undefined && { roots: { listChanged: true } }),
      ...(sampling !== undefined && { sampling: { ...(sampling.tools && { tools: {} }), ...(sampling.context && { context: {} }) } }),
      ...(elicitation !== undefined && { elicitation: { ...(elicitation.form && { form: {} }), ...(elicitation.url && { url: {} }) } }),
    },
    setRoots(next) {
      named = checkRoots(next);
    },
    async visitPages(error, signal = new AbortController().signal) {
      if (!(error instanceof RpcError) || error.code !== errorCodes.urlElicitationRequired || elicitation?.url === undefined) return false;
      const wanted = (error.data as { elicitations?: unknown } | undefined)?.elicitations;
      const asked = (Array.isArray(wanted) ? wanted : []).filter(
        (each): each is Params => isRecord(each) && typeof each.url === 'string' && typeof each.elicitationId === 'string',
      );
      if (asked.length === 0) return false;
      for (const each of asked) {
        const asker: Asker = { server: running.server() };
        const { action } = await askByPage(elicitation.url, { message: error.message, ...each }, { asker, signal }, pages);
        if (action !== 'accept') return false;
      }
      await bounded(Promise.all(asked.map(({ elicitationId }) => pages.whenDone(elicitationId as string))), visitMs, signal);
      return true;
    },
  };
}

/** What an answer to a task's question belongs to is said in it too (Tasks, "Associating Messages with Tasks"). */
function withTask(answer: unknown, params: Params): unknown {
  const task = (params._meta as Params | undefined)?.[relatedTaskKey] as unknown;
  if (task === undefined) return answer;
  return Promise.resolve(answer as Params).then((result) => ({
    ...result,
    _meta: { ...(result._meta as object | undefined), [relatedTaskKey]: task },
  }));
}

const roundsOf = (messages: CreateMessageParams['messages']) =>
  messages.filter(({ content }) => ([content].flat() as { type: string }[]).some(({ type }) => type === 'tool_result')).length;

/** How long a person may take on a page before the call that needs it is given up. */
const visitMs = 600_000;

function bounded(work: Promise<unknown>, ms: number, signal: AbortSignal): Promise<void> {
  return new Promise((resolve, reject) => {
    const settle = (end: () => void) => {
      clearTimeout(timer);
      signal.removeEventListener('abort', stop);
      end();
    };
    const timer = setTimeout(() => settle(() => reject(new JexoError('JEXO_TIMEOUT', 'The page was not done with in time.'))), ms);
    const stop = () => settle(() => reject(new JexoError('JEXO_CANCELLED', 'Waiting for the page was stopped.', { cause: signal.reason })));
    if (signal.aborted) return stop();
    signal.addEventListener('abort', stop, { once: true });
    work.then(
      () => settle(resolve),
      (error: Error) => settle(() => reject(error)),
    );
  });
}

type Context = Pick<FormQuestion, 'asker' | 'signal'>;

/** What a handler gave, if it is one of the three answers there are; closing the question is the safe one. */
function actionOf(answer: unknown): ElicitResult['action'] {
  const action = (answer as { action?: unknown } | undefined)?.action;
  return action === 'accept' || action === 'decline' ? action : 'cancel';
}

/** Only an accepted form carries content, and only content that fits what was asked for. */
async function askByForm(
  handler: (question: FormQuestion) => Answered<ElicitResult>,
  params: Params,
  { asker, signal }: Context,
): Promise<ElicitResult> {
  const requestedSchema = params.requestedSchema as JsonSchema;
  const answer = await handler({ message: params.message, requestedSchema, asker, signal });
  const action = actionOf(answer);
  if (action !== 'accept') return { action };
  const checked = await compileSchema(requestedSchema, 'input', 'the form').check({ ...answer.content });
  if (!checked.ok) throw new RpcError(errorCodes.internalError, `The answer does not fit the form:\n${describeIssues(checked.issues)}`);
  return { action, content: checked.value as Record<string, unknown> };
}

async function askByPage(
  handler: (question: PageQuestion) => Answered<Pick<ElicitResult, 'action'>>,
  params: Params,
  { asker, signal }: Context,
  pages: Pages,
): Promise<ElicitResult> {
  const { message, url, elicitationId } = params;
  // Nothing but web pages may be opened (Client features, "Elicitation", "Safe URL Handling").
  if (!/^https?:\/\//i.test(url) || !URL.canParse(url))
    throw new RpcError(errorCodes.invalidParams, `The page’s address is not one that may be opened: ${String(url).slice(0, 200)}`);
  const action = actionOf(await handler({ message, url, elicitationId, warnings: warningsOf(url), asker, signal }));
  if (action === 'accept') pages.opened(elicitationId);
  return { action };
}

function warningsOf(text: string): string[] {
  const { protocol, hostname, username, password } = new URL(text);
  const isLocal = /^(?:localhost|127\.|\[::1\])/.test(hostname);
  return [
    ...(protocol === 'http:' && !isLocal ? ['The address is not encrypted: what is typed there can be read on the way.'] : []),
    ...(/(?:^|\.)xn--/.test(hostname) ? [`The host is written in letters that may look like others: ${hostname}.`] : []),
    ...(username !== '' || password !== '' ? [`What stands before the @ is no host; the page is at ${hostname}.`] : []),
  ];
}

function checkRoots(roots: readonly Root[]): readonly Root[] {
  for (const { uri } of roots) {
    const plain = uri.startsWith('file://') && URL.canParse(uri) && !hasStepUp(uri);
    if (!plain)
      throw new JexoError('JEXO_DEFINITION', `${JSON.stringify(uri)} is no root: a root is a file:// URI without steps upwards.`, {
        where: uri,
      });
  }
  return roots;
}

/** True for a step upwards, however it is written: `..`, `%2e.`, `..%2f`, `%5c`, and what becomes one when decoded twice. */
function hasStepUp(uri: string): boolean {
  let text = uri;
  for (let round = 0; round < 3; round++) {
    if (/(?:^|[/\\])\.{1,2}(?:[/\\]|$)/.test(text.replace(/^file:\/\//, '/'))) return true;
    let decoded: string;
    try {
      decoded = decodeURIComponent(text);
    } catch {
      return false; // a lone percent sign stands for itself
    }
    if (decoded === text) return false;
    text = decoded;
  }
  return true;
}
