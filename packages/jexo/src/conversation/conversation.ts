import { deadline } from '../engine/deadline.js';
import { printFault } from '../engine/faults.js';
import { untilAborted } from '../engine/until-aborted.js';
import { isJexoError, messageOf } from '../errors.js';
import type { Model, Move, TalkEntry, TalkImage, Turn, Usage } from '../models/model.js';
import { estimateTokens } from '../models/tokens.js';
import { inSpan } from '../offers/tracing.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import type { CreateMessageParams } from '../protocol/types.js';
import { createCalls, type Calls } from './calls.js';
import type { ConverseOptions } from './converse.js';
import { blockForModel, resourceForModel } from './for-the-model.js';
import { generateFor } from './generate.js';
import { hostOf, type Host } from './host.js';
import { wholeTalk } from './memory.js';
import type { EndReason, Limits, Outcome, Step, StepEvent, TotalUsage } from './steps.js';

const usualLimits = {
  steps: 20,
  calls: 50,
  ms: 600_000,
  tokens: 500_000,
  parallel: 4,
  callMs: 60_000,
  resultTokens: 4000,
  toolTokens: 16_000,
  contextTokens: 100_000,
  sameCall: 3,
} satisfies Limits;
export type AllLimits = typeof usualLimits & Limits;

/** Milliseconds that a memory may take to keep what was said. */
const keepMs = 10_000;

/** Ends the loop from wherever it is. */
export class Ended extends Error {
  constructor(
    readonly reason: EndReason,
    readonly error?: Error,
  ) {
    super(reason);
  }
}

export type GivenOptions = ConverseOptions & { readonly model: Model };

/** One request and all that follows from it. */
export class Conversation {
  readonly limits: AllLimits;
  readonly model: Model;
  readonly host: Host;
  /** Fires when the conversation is over, whatever the reason. */
  readonly stop = new AbortController();
  /** What was said before this request. */
  private before: TalkEntry[] = [];
  /** What has been said since. */
  private readonly since: TalkEntry[] = [];
  private readonly steps: Step[] = [];
  private readonly start = performance.now();
  private readonly calls: Calls;
  private turn = 0;
  private answer = '';
  private used = { inputTokens: 0, outputTokens: 0, isEstimated: false };

  constructor(readonly options: GivenOptions) {
    this.model = options.model;
    const given = Object.fromEntries(Object.entries(options.limits ?? {}).filter(([, value]) => value !== undefined));
    this.limits = { ...usualLimits, ...given };
    this.host = hostOf(options.clients);
    this.calls = createCalls(this);
  }

  /** Holds it to its end; never rejects for what the model, a tool or a limit does. */
  async hold(): Promise<Outcome> {
    const { signal } = this.options;
    const onAbort = () => this.stop.abort(new Ended('cancelled'));
    if (signal?.aborted) onAbort();
    else signal?.addEventListener('abort', onAbort, { once: true });
    const timer = setTimeout(() => this.stop.abort(new Ended('time')), Math.min(this.limits.ms, 2 ** 31 - 1));
    const release = this.attend();
    let ended: Ended;
    try {
      await this.until(inSpan('conversation', { 'gen_ai.request.model': this.model.name }, () => this.loop()));
      ended = new Ended('answered');
    } catch (error) {
      ended = error instanceof Ended ? error : new Ended('failed', error as Error);
    } finally {
      clearTimeout(timer);
      signal?.removeEventListener('abort', onAbort);
      release();
    }
    this.stop.abort(ended);
    const { reason } = ended;
    await this.keep();
    const usage = this.usage();
    this.tell({ kind: 'ended', reason, answer: this.answer, usage });
    return {
      answer: this.answer,
      ended: reason,
      ...(ended.error !== undefined && { error: ended.error }),
      steps: this.steps,
      usage,
      calls: this.calls.made,
      tookMs: performance.now() - this.start,
    };
  }

  /** Records a step and tells it. Nothing is told after the end. */
  tell(event: StepEvent): void {
    if (this.steps.at(-1)?.kind === 'ended') return;
    const step: Step = { ...event, n: this.steps.length + 1, at: Math.round(performance.now() - this.start), turn: this.turn };
    // Parts of a text are all in the text that follows.
    if (event.kind !== 'text') this.steps.push(step);
    try {
      this.options.onStep?.(step);
    } catch (error) {
      printFault(error, 'in onStep of a conversation');
    }
  }

  /** Waits for something, and no longer than the conversation lasts. */
  until<T>(work: Promise<T> | T): Promise<T> {
    return untilAborted(work, this.stop.signal);
  }

  /** Asks the model, within what is left of its tokens and its cost. */
  async ask(turn: Turn): Promise<Move> {
    const tokens = tokensOf(turn);
    this.requireRest(tokens);
    const start = performance.now();
    const move = await this.until(
      inSpan('chat', { 'gen_ai.request.model': this.model.name }, () => this.model.next(turn, this.stop.signal)),
    );
    const usage = sane(move.usage) ?? { inputTokens: tokens, outputTokens: estimateTokens(move.text ?? '') + estimateTokens(move.calls) };
    const isEstimated = sane(move.usage) === undefined;
    this.used = {
      inputTokens: this.used.inputTokens + usage.inputTokens,
      outputTokens: this.used.outputTokens + usage.outputTokens,
      isEstimated: this.used.isEstimated || isEstimated,
    };
    const { text, calls } = move;
    this.tell({ kind: 'moved', ...(text !== undefined && { text }), calls, ...usage, isEstimated, tookMs: performance.now() - start });
    return move;
  }

  /** The words of the request and of what the model said last: by them tools are chosen. */
  words(): string {
    const said = this.since.findLast((entry) => entry.role === 'assistant');
    return [this.options.request, said?.role === 'assistant' ? (said.text ?? '') : ''].join('\n');
  }

  private async loop(): Promise<void> {
    await this.begin();
    for (;;) {
      if (this.turn >= this.limits.steps) throw new Ended('steps');
      this.turn++;
      const tools = await this.calls.offered();
      const move = await this.next(tools);
      this.answer = move.text ?? this.answer;
      if (move.refused) {
        this.since.push({ role: 'assistant', calls: [], text: move.text ?? '' });
        throw new Ended('refused');
      }
      const calls = this.calls.withOwnIds(move.calls);
      this.since.push({ role: 'assistant', calls, ...(move.text !== undefined && { text: move.text }) });
      if (calls.length === 0) return;
      this.since.push(...(await this.calls.perform(calls)));
    }
  }

  private async begin(): Promise<void> {
    const { memory, request, images = [], context = [] } = this.options;
    this.before = wholeTalk((await this.until(memory?.entries() ?? [])) as TalkEntry[]);
    const texts: string[] = [];
    const shown: TalkImage[] = [...images];
    for (const each of context) {
      try {
        if ('uri' in each) {
          const read = resourceForModel(
            await this.until(this.host.read(each.uri, each.server, this.callOptions())),
            this.model.takesImages === true,
          );
          texts.push(this.calls.cut(read.text));
          shown.push(...read.images);
        } else {
          const { messages } = await this.until(this.host.prompt(each.prompt, { ...each.input }, this.callOptions()));
          for (const { role, content } of messages) {
            const text = blockForModel(content, this.model.takesImages === true, shown);
            if (role === 'assistant') this.since.push({ role, calls: [], text });
            else this.since.push({ role: 'user', text });
          }
        }
      } catch (error) {
        if (error instanceof Ended) throw error;
        this.tell({ kind: 'trouble', where: 'uri' in each ? each.uri : each.prompt, why: messageOf(error) });
      }
    }
    this.tell({ kind: 'request', text: request, context: context.map((each) => ('uri' in each ? each.uri : each.prompt)) });
    const text = [...texts, request].join('\n\n');
    this.since.push({ role: 'user', text, ...(shown.length > 0 && { images: shown }) });
  }

  /** Asks the model; a conversation that is too long for it is shortened and asked again. */
  private async next(tools: Turn['tools']): Promise<Move> {
    let budget = this.limits.contextTokens;
    for (let tries = 0; ; tries++) {
      const instructions = this.instructions();
      const onText = (part: string) => this.tell({ kind: 'text', part });
      const around = tokensOf({ tools, talk: [], ...(instructions !== undefined && { instructions }) });
      const talk = this.shortened(Math.max(0, budget - around));
      const turn: Turn = { tools, talk, onText, ...(instructions !== undefined && { instructions }) };
      this.tell({ kind: 'asked', model: this.model.name, tools: tools.map(({ name }) => name), tokens: tokensOf(turn) });
      try {
        return await this.ask(turn);
      } catch (error) {
        if (error instanceof Ended) throw error;
        const isTooLong = isJexoError(error) && (error.data as { tooLong?: boolean } | undefined)?.tooLong === true;
        if (!isTooLong || tries >= 5) throw new Ended('failed', error as Error);
        budget = Math.floor(Math.min(budget, around + talk.reduce((sum, entry) => sum + tokensOfEntry(entry), 0)) / 2);
      }
    }
  }

  /** The conversation within a budget: the oldest exchanges go first, then the oldest long results of this one are cut. */
  private shortened(budget: number): TalkEntry[] {
    const sum = (entries: readonly TalkEntry[]) => entries.reduce((total, entry) => total + tokensOfEntry(entry), 0);
    let dropped = 0;
    const now = sum(this.since);
    while (this.before.length > 0 && sum(this.before) + now > budget) {
      const next = this.before.findIndex(({ role }, index) => index > 0 && role === 'user');
      const count = next < 0 ? this.before.length : next;
      this.before.splice(0, count);
      dropped += count;
    }
    if (dropped > 0) this.tell({ kind: 'shortened', entries: dropped, why: 'The conversation was longer than the model is given.' });
    const talk = [...this.before, ...this.since];
    let cut = 0;
    for (const [at, entry] of talk.entries()) {
      const over = sum(talk) - budget;
      if (over <= 0) break;
      if (entry.role !== 'tool') continue;
      const left = Math.max(200, entry.text.length - over * 4);
      if (left >= entry.text.length) continue;
      talk[at] = {
        role: 'tool',
        id: entry.id,
        name: entry.name,
        text: `${entry.text.slice(0, left)} […cut]`,
        ...(entry.failed && { failed: true }),
      };
      cut++;
    }
    if (cut > 0) this.tell({ kind: 'shortened', entries: cut, why: 'Results were cut, since the model can read no more.' });
    return talk;
  }

  private instructions(): string | undefined {
    const parts = [
      ...(this.options.instructions === undefined ? [] : [this.options.instructions]),
      ...this.host.instructions().map(({ server, text }) => `The server ${server} says on its use:\n${text}`),
    ];
    return parts.length === 0 ? undefined : parts.join('\n\n');
  }

  private requireRest(next: number): void {
    const { tokens, cost } = this.limits;
    const { inputTokens, outputTokens } = this.used;
    if (inputTokens + outputTokens + next > tokens) throw new Ended('tokens');
    if (cost !== undefined && this.priceOf(inputTokens + next, outputTokens) > cost) throw new Ended('cost');
  }

  private priceOf(inputTokens: number, outputTokens: number): number {
    const { input, output } = this.options.price ?? { input: 0, output: 0 };
    return (inputTokens * input + outputTokens * output) / 1_000_000;
  }

  private usage(): TotalUsage {
    const { inputTokens, outputTokens } = this.used;
    return { ...this.used, ...(this.options.price !== undefined && { cost: this.priceOf(inputTokens, outputTokens) }) };
  }

  callOptions() {
    return { signal: this.stop.signal, timeoutMs: this.limits.callMs };
  }

  /** Whoever has asked for the tools of this conversation is asked what their servers want to know. */
  private attend(): () => void {
    const { onQuestion, onPage } = this.options;
    return this.host.attend({
      isCalling: (server) => this.calls.isCalling(server),
      onListFailed: (where, why) => this.tell({ kind: 'trouble', where, why }),
      ...(onQuestion && {
        form: async (question) => {
          const { message, asker } = question;
          const answered = await this.until(onQuestion(question));
          this.tell({
            kind: 'question',
            ...asker,
            message,
            action: answered.action,
            ...(answered.action === 'accept' && { content: answered.content ?? {} }),
          });
          return answered;
        },
      }),
      ...(onPage && {
        page: async (question) => {
          const { message, url, asker } = question;
          const answered = await this.until(onPage(question));
          this.tell({ kind: 'question', ...asker, message: `${message} ${url}`, action: answered.action });
          return answered;
        },
      }),
      generate: async (request, _signal, { server }) => this.generate(request, server),
    });
  }

  private async generate(request: CreateMessageParams, server: string) {
    const agreed = (await this.until(this.options.consent?.(request, server) ?? false)) === true;
    if (!agreed) {
      this.tell({ kind: 'generated', server, agreed });
      throw new RpcError(errorCodes.userRejected, 'The person refused the request');
    }
    const result = await generateFor(request, this.model, (turn) => this.ask(turn));
    const [first] = [result.content].flat();
    this.tell({ kind: 'generated', server, agreed, ...(first?.type === 'text' && { text: first.text }) });
    return result;
  }

  /** What was said is kept as whole exchanges: calls that were not answered are, in words. */
  private async keep(): Promise<void> {
    const { memory } = this.options;
    if (memory === undefined || this.since.length === 0) return;
    const last = this.since.at(-1)!;
    if (last.role === 'assistant' && last.calls.length > 0)
      this.since.push(
        ...last.calls.map(
          ({ id, name }): TalkEntry =>
            this.calls.done.get(id) ?? { role: 'tool', id, name, text: 'The conversation ended before there was an answer.', failed: true },
        ),
      );
    const limit = deadline(keepMs);
    try {
      await untilAborted(memory.add(this.since), limit.signal);
    } catch (error) {
      this.tell({ kind: 'trouble', where: 'memory', why: messageOf(error) });
    } finally {
      limit.clear();
    }
  }
}

/** A service may say anything of its usage. */
function sane(usage: Usage | undefined): Usage | undefined {
  const isCount = (value: unknown) => typeof value === 'number' && Number.isFinite(value) && value >= 0;
  return usage !== undefined && isCount(usage.inputTokens) && isCount(usage.outputTokens) ? usage : undefined;
}

function tokensOf({ instructions, tools, talk }: Turn): number {
  const told = tools.map(({ name, description, inputSchema }) => ({ name, description, inputSchema }));
  return (
    estimateTokens(instructions ?? '') +
    (told.length === 0 ? 0 : estimateTokens(told)) +
    talk.reduce((sum, entry) => sum + tokensOfEntry(entry), 0)
  );
}

/** An image counts as a thousand tokens, whatever its size: services scale them. */
const imageTokens = 1000;

function tokensOfEntry(entry: TalkEntry): number {
  const images = entry.role === 'assistant' ? 0 : (entry.images?.length ?? 0) * imageTokens;
  return (
    4 + images + estimateTokens(entry.text ?? '') + (entry.role === 'assistant' && entry.calls.length > 0 ? estimateTokens(entry.calls) : 0)
  );
}
