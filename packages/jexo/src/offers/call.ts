import type { Caller } from '../engine/servable.js';
import type { Reach } from '../engine/task-entry.js';
import { JexoError } from '../errors.js';
import { errorCodes, isRawJson, RawJson, RpcError } from '../protocol/json-rpc.js';
import { byteLength } from '../protocol/byte-length.js';
import { isSecretSetting } from '../protocol/secret-names.js';
import { unbalanced } from '../protocol/sampling.js';
import { elicitationObstacle, shapeElicitation, shapeSampling } from '../protocol/shape-down.js';
import type { CreateMessageParams, CreateMessageResult, ElicitResult, JsonSchema, LogLevel, Root } from '../protocol/types.js';
import { formOf } from './form.js';
import { compileSchema, describeIssues, type Infer, type Schema } from './schema.js';
import type { ClientAbility, Session } from './session.js';

/** How a person answered: with values, with a no, or by closing the question. */
export type Asked<T> = { readonly action: 'accept'; readonly content: T } | { readonly action: 'decline' } | { readonly action: 'cancel' };

/** How long a question to a person may stay open. */
export interface AskOptions {
  /** Milliseconds to wait for the person. Default 10 minutes. */
  readonly timeoutMs?: number;
}

/** A person takes longer than a machine. */
const personTimeoutMs = 600_000;

/**
 * The second argument of every handler: the request it answers, and the way back to whoever is calling.
 *
 * @example
 * tool('move_hive', { input }, async ({ hive }, call) => {
 *   const { to } = await call.ask('Which apiary should it go to?', z.object({ to: z.enum(apiaries) }));
 *   call.progress(1, 2, 'closing the entrance');
 *   return move(hive, to, { signal: call.signal });
 * });
 */
export class Call {
  private bag: Record<string, unknown> | undefined;
  private listeners: ((bytes: number) => void)[] | undefined;
  private ownId: string | undefined;

  constructor(
    private readonly reach: Reach,
    /** The session the call came in, the same object for all calls of one client. */
    readonly session: Session,
  ) {}

  /** Fires when the caller cancels, or its connection ends. Hand it to everything that can be stopped. */
  get signal(): AbortSignal {
    return this.reach.signal;
  }

  /** Who is calling, as far as the transport can tell. */
  get caller(): Caller {
    return this.reach.caller ?? this.session.caller;
  }

  /**
   * Names this request in logs. Over HTTP it is what a proxy in front has put into `X-Request-Id`; otherwise it is made up, once for each
   * request.
   */
  get requestId(): string {
    if (this.ownId !== undefined) return this.ownId;
    const given = this.reach.header('x-request-id');
    return (this.ownId = given !== undefined && /^[\w.:/+=@-]{1,128}$/.test(given) ? given : globalThis.crypto.randomUUID());
  }

  /** What the client sent beside its params: a member of `_meta`, or a header of its HTTP request that carries no credentials. */
  carried(name: string): string | undefined {
    const inMeta = this.reach.params._meta?.[name] as unknown;
    if (typeof inMeta === 'string') return inMeta;
    return isSecretSetting(name) ? undefined : this.reach.header(name.toLowerCase());
  }

  /** Runs `task` when the answer has been written down, with the bytes of its result; 0 when it is an error. */
  onAnswered(task: (bytes: number) => void): void {
    (this.listeners ??= []).push(task);
  }

  /** Tells those who listen; the result is written down for it, once. */
  answered(result: unknown): unknown {
    if (this.listeners === undefined) return result;
    const written = result === undefined || isRawJson(result) ? result : new RawJson(JSON.stringify(result));
    const bytes = written === undefined ? 0 : byteLength((written as RawJson).json);
    for (const task of this.listeners.splice(0)) task(bytes);
    return written;
  }

  /** What middleware hands to the handler, for this one request. */
  get state(): Record<string, unknown> {
    return (this.bag ??= {});
  }

  /**
   * Tells the caller how far the work is, if it asked to be told. Values must grow; bursts are thinned.
   * @param progress how much is done, in any unit
   * @param total how much there is, in the same unit
   * @param message what is happening, in a few words
   */
  progress(progress: number, total?: number, message?: string): void {
    this.reach.progress(progress, total, message);
  }

  /** Sends a log message to the caller, unless it asked for more severe ones only. Never log secrets. */
  log(level: LogLevel, data: unknown, logger?: string): void {
    if (this.session.hears(level))
      this.reach.notify('notifications/message', logger === undefined ? { level, data } : { level, logger, data });
  }

  /**
   * Asks the person at the client by a form, and gives what they filled in (Client features, "Elicitation"). Never ask for
   * secrets this way; `askByUrl` is for those.
   *
   * @param schema flat: texts, numbers, yes or no, choices
   * @throws JexoError JEXO_NOT_ACCEPTED when the person declined or closed the question (`error.data.action`),
   *   JEXO_NOT_SUPPORTED when the client cannot ask
   */
  async ask<const S extends Schema>(message: string, schema: S, options: AskOptions = {}): Promise<Infer<S>> {
    const asked = await this.askFor(message, schema, options);
    if (asked.action === 'accept') return asked.content;
    throw notAccepted(message, asked.action);
  }

  /** As `ask`, with the three outcomes to choose between instead of an error. */
  async askFor<const S extends Schema>(message: string, schema: S, options: AskOptions = {}): Promise<Asked<Infer<S>>> {
    const compiled = compileSchema(schema, 'input', 'call.ask');
    const requestedSchema = formOf(compiled, 'call.ask');
    this.need('elicitation.form', elicitationObstacle(requestedSchema, this.reach.peer.revision));
    const params = shapeElicitation({ mode: 'form', message, requestedSchema }, this.reach.peer.revision);
    const answer = await this.reach.request('elicitation/create', params, { timeoutMs: personTimeoutMs, ...options });
    if (answer.action !== 'accept') return { action: answer.action };
    const checked = await compiled.check(answer.content ?? {});
    if (!checked.ok)
      throw new JexoError(
        'JEXO_INPUT_INVALID',
        `The answer to ${JSON.stringify(message)} does not fit what was asked:\n${describeIssues(checked.issues)}`,
      );
    return { action: 'accept', content: checked.value as Infer<S> };
  }

  /** Hands on a question of another server as it is; its answer is that server's to check. @throws JexoError JEXO_NOT_SUPPORTED */
  async passOn({ message, requestedSchema }: { readonly message: string; readonly requestedSchema: JsonSchema }): Promise<ElicitResult> {
    this.need('elicitation.form', elicitationObstacle(requestedSchema, this.reach.peer.revision));
    const params = shapeElicitation({ mode: 'form', message, requestedSchema }, this.reach.peer.revision);
    return this.reach.request('elicitation/create', params, { timeoutMs: personTimeoutMs });
  }

  /**
   * Sends the person to a page of the server's own, for what must not pass through the client: sign-ins, keys, payments.
   * Resolves when they have agreed to open it, which is not yet that they are done; tell that with `server.pageDone(id)`.
   *
   * @param url without credentials or personal data; https outside development
   * @returns the id of this request, to be given to the page's own back end
   * @throws JexoError JEXO_NOT_ACCEPTED, JEXO_NOT_SUPPORTED
   */
  async askByUrl(
    message: string,
    url: string | URL,
    options: AskOptions & { readonly id?: string } = {},
  ): Promise<{ readonly id: string }> {
    this.need('elicitation.url');
    const { id = globalThis.crypto.randomUUID(), ...rest } = options;
    const params = { mode: 'url' as const, message, url: safeUrl(url), elicitationId: id };
    const answer = await this.reach.request('elicitation/create', params, { timeoutMs: personTimeoutMs, ...rest });
    if (answer.action !== 'accept') throw notAccepted(message, answer.action);
    this.session.pageOpened(id);
    return { id };
  }

  /** Says that the person is done with a page that this call, or another one of the session, sent them to. False when nobody waits for it. */
  pageDone(id: string): boolean {
    return this.session.finishPage(id);
  }

  /**
   * Has the client's model write something (Client features, "Sampling").
   *
   * @param request a text, or the whole request; `maxTokens` is 1,000 unless it says otherwise
   * @throws JexoError JEXO_NOT_SUPPORTED when the client has no model, or none that takes tools; RpcError when a person refused
   * @example
   * const { content } = await call.generate('Summarise these inspections: …');
   */
  async generate(
    request: string | (Omit<CreateMessageParams, 'maxTokens'> & { readonly maxTokens?: number }),
    options: AskOptions = {},
  ): Promise<CreateMessageResult> {
    this.need('sampling');
    const params: CreateMessageParams =
      typeof request === 'string'
        ? { messages: [{ role: 'user', content: { type: 'text', text: request } }], maxTokens: 1000 }
        : { maxTokens: 1000, ...request };
    if (params.tools !== undefined || params.toolChoice !== undefined) this.need('sampling.tools');
    if (params.includeContext !== undefined && params.includeContext !== 'none') this.need('sampling.context');
    const why = unbalanced(params.messages);
    if (why !== undefined) throw new RpcError(errorCodes.invalidParams, `sampling/createMessage: ${why}`);
    const shaped = shapeSampling(params, this.reach.peer.revision);
    return this.reach.request('sampling/createMessage', shaped, { timeoutMs: personTimeoutMs, ...options });
  }

  /**
   * The folders the client works in (Client features, "Roots"). They inform; they are no fence.
   * @throws JexoError JEXO_NOT_SUPPORTED
   */
  async roots(): Promise<readonly Root[]> {
    this.need('roots');
    const { roots } = await this.reach.request('roots/list', undefined);
    return roots;
  }

  /** Reports a defect to the operator and gives the reference by which it can be found again. */
  fault(error: unknown): string {
    return this.reach.peer.fault(error);
  }

  private need(ability: ClientAbility, obstacle?: string): void {
    if (this.session.can(ability) && obstacle === undefined) return;
    const who = this.session.client?.name ?? 'The client';
    throw new JexoError(
      'JEXO_NOT_SUPPORTED',
      `${who} cannot do what the tool needs (${ability})${obstacle === undefined ? '' : `: ${obstacle}`}.`,
      { data: { ability } },
    );
  }
}

function notAccepted(message: string, action: 'decline' | 'cancel'): JexoError {
  return new JexoError('JEXO_NOT_ACCEPTED', `The person ${action === 'decline' ? 'declined' : 'closed'} the question: ${message}`, {
    data: { action },
  });
}

/** Only pages a browser may open safely; never with credentials in them (Client features, "Elicitation", "URL Mode"). */
function safeUrl(url: string | URL): string {
  const { protocol, username, password, hostname, href } = new URL(url);
  const local = ['localhost', '127.0.0.1', '[::1]'].includes(hostname);
  if (username !== '' || password !== '')
    throw new JexoError('JEXO_DEFINITION', 'The page’s address must not hold credentials.', { where: hostname });
  if (protocol !== 'https:' && !(protocol === 'http:' && local))
    throw new JexoError('JEXO_DEFINITION', `The page’s address must start with https:, not ${protocol}.`, { where: href });
  return href;
}

/**
 * The error that tells the client to send the person to a page first, and then to call again (revision 2025-11-25).
 *
 * @example
 * if (!ledger.signedIn(call.session)) throw urlElicitationRequired({ message: 'Sign in at the honey ledger.', url: 'https://…', id });
 */
export function urlElicitationRequired(
  ...pages: readonly { readonly message: string; readonly url: string | URL; readonly id: string }[]
): RpcError {
  const elicitations = pages.map(({ message, url, id }) => ({ mode: 'url', message, url: safeUrl(url), elicitationId: id }));
  return new RpcError(errorCodes.urlElicitationRequired, pages.map(({ message }) => message).join(' '), { elicitations });
}
