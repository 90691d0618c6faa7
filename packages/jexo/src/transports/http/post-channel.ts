import type { Channel } from '../../engine/exchange.js';
import type { Caller } from '../../engine/servable.js';
import { JexoError } from '../../errors.js';
import { encode, type JsonRpcMessage, type RequestId } from '../../protocol/json-rpc.js';
import { since } from '../../protocol/revisions.js';
import type { Form } from './accept.js';
import type { HttpSession } from './http-sessions.js';
import type { EventStream, HttpRequest, Responder } from './http-types.js';
import { comeBack, eventStream, json, noHeaders, refuse } from './replies.js';
import { lost } from './lost-answers.js';
import type { OutStream } from './session-streams.js';

export interface PostOptions {
  /** Answers the body will get. */
  readonly expected: number;
  readonly caller: Caller;
  readonly request: HttpRequest;
  readonly responder: Responder;
  readonly cors: Record<string, string>;
  /** Whose stream it becomes, if it becomes one; without sessions there is nothing to resume. */
  readonly session: HttpSession | undefined;
  readonly form: Form;
  readonly maxUnreadBytes: number;
  readonly isHandshake?: true;
  /** What was posted. */
  readonly asked: object;
}

/** Ids of the requests in what was posted. */
function idsIn(asked: object): (string | number)[] {
  return [asked].flat().flatMap((each) => {
    const { id, method } = each as { id?: string | number; method?: unknown };
    return id !== undefined && method !== undefined ? [id] : [];
  });
}

/** Older clients may try to parse the event without data that primes a stream. */
export function primes({ peer }: HttpSession): boolean {
  return since(peer.revision, '2025-11-25');
}

/** An error without an id refuses the body as a whole, however many requests it held. */
function countAnswers(message: JsonRpcMessage | readonly JsonRpcMessage[], expected: number): number {
  if (Array.isArray(message)) return message.length;
  if ('method' in message) return 0;
  return (message as { id?: unknown }).id === undefined ? expected : 1;
}

/**
 * The answer to one POST: plain JSON when nothing precedes the result, a stream as soon as something does. Decided by
 * the first message that leaves, so that both are one code path.
 */
export class PostChannel implements Channel {
  onEnd: (() => unknown) | undefined;
  readonly caller: Caller;
  private expected: number;
  private stream: OutStream | undefined;
  private done = false;

  constructor(private readonly made: PostOptions) {
    this.expected = made.expected;
    this.caller = made.caller;
  }

  send(message: JsonRpcMessage | readonly JsonRpcMessage[]): void {
    if (this.done) return;
    const answers = countAnswers(message, this.expected);
    const { form, responder } = this.made;
    if (form === 'json' && answers === 0) {
      // A client that takes no stream gets its answer and nothing before it; and it cannot be asked.
      if ('id' in message)
        throw new JexoError('JEXO_NOT_SUPPORTED', 'The client accepts application/json only, so nothing can be asked of it during a call.');
      return;
    }
    const text = encode(message);
    if (form !== 'stream' && this.stream === undefined && answers >= this.expected) {
      const reply = () => {
        const headers = this.headers();
        responder.reply(200, headers === noHeaders ? json : { ...json, ...headers }, text);
        this.end();
      };
      const { saving } = this.made.session ?? {};
      if (!this.made.isHandshake || saving === undefined) return reply();
      // The next request may come to another process, which has to know the session by then.
      this.done = true;
      saving.then(reply, () => {
        refuse(responder, 503, { ...this.made.cors, ...comeBack }, 'The session could not be kept: try again');
        this.made.session?.peer.close('the session could not be kept');
        this.end();
      });
      return;
    }
    this.open().write(text);
    this.expected -= answers;
    if (this.expected <= 0) this.end();
  }

  header(name: string): string | undefined {
    return this.made.request.header(name);
  }

  dropped(_id: RequestId): void {
    if (this.done) return;
    this.expected -= 1;
    if (this.expected > 0) return;
    const { session, responder, asked } = this.made;
    const [id] = idsIn(asked);
    // It is not the client that has given it up: it is told that nothing comes any more.
    const isOver = session?.isShared === true && session.peer.state === 'closed' && this.stream === undefined && id !== undefined;
    if (isOver) responder.reply(200, { ...json, ...this.headers() }, encode(lost(id)));
    else if (this.made.form === 'json') this.made.responder.reply(202, this.headers(), '');
    else this.open();
    this.end();
  }

  /** A handshake names its session when it has come about. */
  private headers(): Record<string, string> {
    const { cors, session, isHandshake } = this.made;
    return isHandshake && session?.peer.state === 'ready' ? { ...cors, 'mcp-session-id': session.id } : cors;
  }

  private open(): OutStream {
    if (this.stream !== undefined) return this.stream;
    const { session, responder, maxUnreadBytes } = this.made;
    const sink = responder.stream({ ...eventStream, ...this.headers() });
    this.stream = session?.streams.open(sink, primes(session), idsIn(this.made.asked)) ?? {
      write: (message) => {
        sink.write(`event: message\ndata: ${message}\n\n`);
        // A client that does not read must not grow our memory; without a session there is nothing to resume.
        if (sink.unread() > maxUnreadBytes) this.cut(sink);
      },
      end: () => sink.end(),
    };
    return this.stream;
  }

  private cut(sink: EventStream): void {
    sink.abort();
    this.done = true;
    this.onEnd?.();
  }

  private end(): void {
    this.done = true;
    this.stream?.end();
    this.onEnd?.();
  }
}
