import type { RequestHandler } from '../engine/peer.js';
import { JexoError } from '../errors.js';
import { compileSchema, describeIssues } from '../offers/schema.js';
import { grammarOf } from '../protocol/grammar.js';
import { errorCodes, RpcError, type Params } from '../protocol/json-rpc.js';
import { unbalanced } from '../protocol/sampling.js';
import type { ClientCapabilities, CreateMessageParams, CreateMessageResult, ElicitResult, JsonSchema, Root } from '../protocol/types.js';

/** A question of the server for a person. Always show who asks, and always let them decline or close it. */
export interface FormQuestion {
  readonly message: string;
  /** Flat: texts, numbers, yes or no, choices. */
  readonly requestedSchema: JsonSchema;
  readonly signal: AbortSignal;
}
/** A page the server wants a person to visit. Show the whole address and open it only when they agree. */
export interface PageQuestion {
  readonly message: string;
  readonly url: string;
  readonly elicitationId: string;
  readonly signal: AbortSignal;
}
type Answered<T> = T | Promise<T>;

/** What the client does for the server. Only what is given here is declared to it. */
export interface ServerAnswers {
  readonly elicitation?: {
    readonly form?: (question: FormQuestion) => Answered<ElicitResult>;
    readonly url?: (question: PageQuestion) => Answered<Pick<ElicitResult, 'action'>>;
  };
  readonly sampling?: {
    /** Throw `RpcError(errorCodes.userRejected, …)` when the person refuses. */
    readonly create: (request: CreateMessageParams, signal: AbortSignal) => Answered<CreateMessageResult>;
    /** True when the model can be given tools. */
    readonly tools?: boolean;
    /** True when context of servers can be included. */
    readonly context?: boolean;
  };
  /** Folders the server may look at, as `file://` URIs. Give an empty list to name them later by `setRoots`. */
  readonly roots?: readonly Root[];
}

export interface ServerAnswering {
  readonly capabilities: ClientCapabilities;
  readonly requests: ReadonlyMap<string, RequestHandler>;
  /** @throws JexoError JEXO_DEFINITION for a URI that is no file's */
  setRoots(roots: readonly Root[]): void;
}

/** The handlers for what servers ask of a client, and the capabilities that go with them. */
export function answerServer({ elicitation, sampling, roots }: ServerAnswers, pages: Set<string>): ServerAnswering {
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
      return handler(params, exchange);
    };
  if (roots !== undefined)
    requests.set(
      'roots/list',
      checked(() => ({ roots: named })),
    );
  if (sampling !== undefined) {
    requests.set(
      'sampling/createMessage',
      checked((params, { signal }) => {
        const request = params as unknown as CreateMessageParams;
        if (!sampling.tools && (request.tools !== undefined || request.toolChoice !== undefined))
          throw new RpcError(errorCodes.invalidParams, 'This client did not declare sampling.tools');
        const why = unbalanced(request.messages);
        if (why !== undefined) throw new RpcError(errorCodes.invalidParams, `sampling/createMessage: ${why}`);
        return sampling.create(request, signal);
      }),
    );
  }
  if (elicitation?.form !== undefined || elicitation?.url !== undefined) {
    requests.set(
      'elicitation/create',
      checked((params, { signal }) => {
        const mode = (params.mode as 'form' | 'url' | undefined) ?? 'form'; // a missing mode means form
        const handler = elicitation[mode];
        if (handler === undefined) throw new RpcError(errorCodes.invalidParams, `This client did not declare elicitation by ${mode}`);
        return mode === 'url' ? askByPage(elicitation.url!, params, signal, pages) : askByForm(elicitation.form!, params, signal);
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
  };
}

/** Only an accepted form carries content, and only content that fits what was asked for. */
async function askByForm(
  handler: (question: FormQuestion) => Answered<ElicitResult>,
  params: Params,
  signal: AbortSignal,
): Promise<ElicitResult> {
  const requestedSchema = params.requestedSchema as JsonSchema;
  const { action, content } = await handler({ message: params.message, requestedSchema, signal });
  if (action !== 'accept') return { action };
  const checked = await compileSchema(requestedSchema, 'input', 'the form').check({ ...content });
  if (!checked.ok) throw new RpcError(errorCodes.internalError, `The answer does not fit the form:\n${describeIssues(checked.issues)}`);
  return { action, content: checked.value as Record<string, unknown> };
}

async function askByPage(
  handler: (question: PageQuestion) => Answered<Pick<ElicitResult, 'action'>>,
  params: Params,
  signal: AbortSignal,
  pages: Set<string>,
): Promise<ElicitResult> {
  const { message, url, elicitationId } = params;
  // Nothing but web pages may be opened (Client features, "Elicitation", "Safe URL Handling").
  if (!/^https?:\/\//i.test(url) || !URL.canParse(url))
    throw new RpcError(errorCodes.invalidParams, `The page’s address is not one that may be opened: ${String(url).slice(0, 200)}`);
  const { action } = await handler({ message, url, elicitationId, signal });
  if (action === 'accept') pages.add(elicitationId);
  return { action };
}

function checkRoots(roots: readonly Root[]): readonly Root[] {
  for (const { uri } of roots) {
    const plain = uri.startsWith('file://') && URL.canParse(uri) && !/(?:^|\/)(?:\.\.|%2e%2e)(?:\/|$)/i.test(uri);
    if (!plain)
      throw new JexoError('JEXO_DEFINITION', `${JSON.stringify(uri)} is no root: a root is a file:// URI without steps upwards.`, {
        where: uri,
      });
  }
  return roots;
}
