import { mayCall } from '../protocol/views.js';
import type { Served } from '../client/clients.js';
import { isJexoError, messageOf } from '../errors.js';
import { pause } from '../engine/pause.js';
import { nearest } from '../offers/nearest.js';
import { inSpan, outgoingTrace } from '../offers/tracing.js';
import type { TalkEntry, TalkImage, ToolCall } from '../models/model.js';
import type { CallToolResult, Tool } from '../protocol/types.js';
import type { Decision } from './approvals.js';
import { Ended, type Conversation } from './conversation.js';
import { resultForModel } from './for-the-model.js';
import { createLongAnswers } from './long-answers.js';
import { finder, findTools, pickTools } from './pick-tools.js';

/** The calls of one conversation: which tools are offered, approvals, and what the model is given as results. */
export interface Calls {
  /** Calls that reached a server. */
  readonly made: number;
  /** The results there are, by the ids of their calls. */
  readonly done: ReadonlyMap<string, TalkEntry>;
  isCalling(server: string): boolean;
  /** The tools for the model's next step. */
  offered(): Promise<readonly Tool[]>;
  /** The calls with ids that no other call of the conversation has. */
  withOwnIds(calls: readonly ToolCall[]): readonly ToolCall[];
  /** Makes what may be made; the results are in the order of the calls. */
  perform(calls: readonly ToolCall[]): Promise<TalkEntry[]>;
  /** A text as the model is given it. */
  cut(text: string): string;
}

type ServedTool = Tool & Served;

/** What a call came to before it reached a server. */
interface Refused {
  readonly text: string;
}

export function createCalls(talk: Conversation): Calls {
  return new TalkCalls(talk);
}

class TalkCalls implements Calls {
  made = 0;
  readonly done = new Map<string, TalkEntry>();
  private readonly running = new Map<string, number>();
  private readonly ids = new Set<string>();
  private readonly times = new Map<string, number>();
  /** Names that were called or found: they stay among the tools that are offered. */
  private readonly wanted = new Set<string>();
  private readonly starts: number[] = [];
  private all: readonly ServedTool[] = [];
  private given: readonly ServedTool[] = [];
  private own = { more: 'read_more', find: 'find_tools' };
  private long: ReturnType<typeof createLongAnswers> | undefined;

  constructor(private readonly talk: Conversation) {}

  isCalling = (server: string) => (this.running.get(server) ?? 0) > 0;

  async offered(): Promise<readonly Tool[]> {
    await this.list();
    const { toolTokens } = this.talk.limits;
    this.given = pickTools(this.all, { words: this.talk.words(), kept: this.wanted, budget: toolTokens });
    const hidden = this.all.length - this.given.length;
    return [
      ...this.given,
      ...(hidden > 0 ? [finder(this.own.find, hidden)] : []),
      ...(this.longAnswers().hasAny ? [this.longAnswers().tool] : []),
    ];
  }

  withOwnIds(calls: readonly ToolCall[]): readonly ToolCall[] {
    return calls.map((call) => {
      let id = call.id;
      for (let count = 2; this.ids.has(id); count++) id = `${call.id}-${count}`;
      this.ids.add(id);
      return id === call.id ? call : { ...call, id };
    });
  }

  cut(text: string): string {
    return this.longAnswers().cut(text).text;
  }

  async perform(calls: readonly ToolCall[]): Promise<TalkEntry[]> {
    const { limits, until } = this.talk;
    // A person is asked one thing at a time.
    const approved: (ServedTool | Refused | TalkEntry)[] = [];
    for (const call of calls) approved.push(await this.prepare(call));
    const results: TalkEntry[] = [];
    let next = 0;
    const work = async () => {
      while (next < calls.length) {
        const at = next++;
        const ready = approved[at]!;
        results[at] =
          'role' in ready ? ready : 'server' in ready ? await this.make(calls[at]!, ready) : this.refuse(calls[at]!, ready.text);
      }
    };
    const parallel = Math.max(1, Math.floor(limits.parallel));
    await until.call(this.talk, Promise.all(Array.from({ length: Math.min(parallel, calls.length) }, work)));
    return results;
  }

  private longAnswers() {
    return (this.long ??= createLongAnswers(Math.max(200, Math.floor(this.talk.limits.resultTokens * 4)), this.own.more));
  }

  private async list(): Promise<void> {
    const all = await this.talk.until(this.talk.host.tools({ signal: this.talk.stop.signal }));
    // Those for views alone are not put before a model (Extensions, "Interactive views").
    this.all = all.filter(({ _meta }) => mayCall(_meta, 'model'));
    const names = new Set(this.all.map(({ name }) => name));
    const free = (name: string): string => (names.has(name) ? free(`${name}_here`) : name);
    // A name that was told to the model stays.
    if (this.long === undefined) this.own = { more: free('read_more'), find: free('find_tools') };
  }

  /** The tool when the call may be made; otherwise what the model is given in its place. */
  private async prepare(call: ToolCall): Promise<ServedTool | Refused | TalkEntry> {
    const { id, name, input } = call;
    if (call.broken !== undefined) return { text: call.broken };
    const isOwn = !this.all.some((each) => each.name === name);
    if (isOwn && name === this.own.more) return this.ownResult(call, this.longAnswers().read(input));
    if (isOwn && name === this.own.find) {
      const { names, ...found } = findTools(
        this.all.filter((each) => !this.given.includes(each)),
        input.words,
      );
      for (const each of names) this.wanted.add(each);
      return this.ownResult(call, found);
    }
    const tool = this.all.find((each) => each.name === name);
    if (tool === undefined) {
      const near = nearest(
        name,
        this.all.map((each) => each.name),
      );
      return { text: `There is no tool ${name}.${near === undefined ? '' : ` Did you mean ${near}?`}` };
    }
    const key = JSON.stringify([name, input]);
    const before = this.times.get(key) ?? 0;
    if (before >= this.talk.limits.sameCall)
      return { text: `This call was made ${before} times with the same input. It is not made again: do something else, or answer.` };
    if (this.made + this.pending >= this.talk.limits.calls) throw new Ended('calls');
    const { approved, by = 'person', why } = await this.decide(tool, input);
    this.talk.tell({ kind: 'approval', id, name, server: tool.server, input, approved, by, ...(why !== undefined && { why }) });
    if (!approved) return { text: `The call was not approved. ${why ?? 'The person refused it.'}` };
    this.times.set(key, before + 1);
    this.pending++;
    return tool;
  }

  /** Calls that were approved and have not begun. */
  private pending = 0;

  private async decide(tool: ServedTool, input: ToolCall['input']): Promise<Decision> {
    const { approve } = this.talk.options;
    if (approve === undefined) return { approved: false, by: 'nobody', why: 'Nobody was there to approve it.' };
    try {
      const said = await this.talk.until(approve({ tool, input, signal: this.talk.stop.signal }));
      if (typeof said === 'object' && said !== null) return { ...said, approved: said.approved === true };
      return { approved: said === true };
    } catch (error) {
      if (error instanceof Ended) throw error;
      return { approved: false, by: 'nobody', why: `It could not be approved: ${messageOf(error)}` };
    }
  }

  private async make(call: ToolCall, tool: ServedTool): Promise<TalkEntry> {
    const { id, name } = call;
    const input = { ...call.input };
    await this.untilItsTurn();
    // What was approved is called, and nothing that has taken its name meanwhile.
    const now = (await this.talk.until(this.talk.host.tools({ signal: this.talk.stop.signal }))).find((each) => each.name === name);
    this.pending--;
    if (now === undefined || JSON.stringify(now) !== JSON.stringify(tool))
      return this.refuse(
        call,
        `The tool ${name} ${now === undefined ? 'is gone' : 'has changed since it was approved'}. Look at it and call it again.`,
      );
    this.made++;
    this.wanted.add(name);
    const { server, ownName } = tool;
    this.talk.tell({ kind: 'call', id, name, server, ownName, input });
    this.running.set(server, (this.running.get(server) ?? 0) + 1);
    const start = performance.now();
    let result: CallToolResult | undefined;
    let shown: { readonly text: string; readonly images: readonly TalkImage[] };
    let failed = false;
    try {
      result = await inSpan(`tools/call ${ownName}`, { 'rpc.system': 'mcp', 'rpc.method': 'tools/call', 'server.name': server }, () =>
        this.talk.until(
          this.talk.host.call(name, input, {
            ...this.talk.callOptions(),
            meta: outgoingTrace(),
            onProgress: ({ progress, total, message }) =>
              this.talk.tell({
                kind: 'progress',
                id,
                progress,
                ...(total !== undefined && { total }),
                ...(message !== undefined && { message }),
              }),
          }),
        ),
      );
      failed = result.isError === true;
      shown = resultForModel(result, this.talk.model.takesImages === true);
    } catch (error) {
      if (error instanceof Ended || this.talk.stop.signal.aborted) throw error;
      failed = true;
      shown = { text: textOfError(error), images: [] };
    } finally {
      this.running.set(server, this.running.get(server)! - 1);
    }
    const { text, cutFrom } = await this.shortened(name, shown.text);
    const tookMs = performance.now() - start;
    this.talk.tell({
      kind: 'result',
      id,
      name,
      text,
      failed,
      tookMs,
      ...(result !== undefined && { result }),
      ...(cutFrom !== undefined && { cutFrom }),
    });
    return this.kept({ role: 'tool', id, name, text, ...(failed && { failed }), ...(shown.images.length > 0 && { images: shown.images }) });
  }

  /** A long answer is cut, or summed up by the model. */
  private async shortened(name: string, text: string): Promise<{ readonly text: string; readonly cutFrom?: number }> {
    const { longAnswers = 'cut', request } = this.talk.options;
    const { resultTokens, contextTokens } = this.talk.limits;
    if (longAnswers === 'cut' || text.length <= resultTokens * 4 || this.talk.model.isStandIn) return this.longAnswers().cut(text);
    const most = Math.max(1000, Math.floor(contextTokens / 2) * 4);
    const words = `Sum up this answer of the tool ${name}, for the request “${request}”. Keep figures, names and identifiers as they are.\n\n${text.slice(0, most)}`;
    const { text: summary } = await this.talk.ask({ tools: [], talk: [{ role: 'user', text: words }] });
    return this.longAnswers().cut(text, summary ?? '');
  }

  private refuse(call: ToolCall, text: string): TalkEntry {
    return this.ownResult(call, { text, failed: true });
  }

  private ownResult({ id, name }: ToolCall, { text, failed }: { readonly text: string; readonly failed: boolean }): TalkEntry {
    this.talk.tell({ kind: 'result', id, name, text, failed, tookMs: 0 });
    return this.kept({ role: 'tool', id, name, text, ...(failed && { failed }) });
  }

  private kept(entry: TalkEntry & { readonly role: 'tool' }): TalkEntry {
    this.done.set(entry.id, entry);
    return entry;
  }

  private async untilItsTurn(): Promise<void> {
    const { callsPerMinute } = this.talk.limits;
    if (callsPerMinute === undefined) return;
    const most = Math.max(1, Math.floor(callsPerMinute));
    for (;;) {
      const now = performance.now();
      while (this.starts.length > 0 && this.starts[0]! <= now - 60_000) this.starts.shift();
      if (this.starts.length < most) return void this.starts.push(now);
      await this.talk.until(pause(this.starts[0]! + 60_000 - now, this.talk.stop.signal));
    }
  }
}

/** An error as a model can use it: what is wrong, and what to do next. */
function textOfError(error: unknown): string {
  const next = isJexoError(error) && error.next !== undefined && error.next !== '' ? ` ${error.next}` : '';
  return `The call failed: ${messageOf(error)}${next}`;
}
