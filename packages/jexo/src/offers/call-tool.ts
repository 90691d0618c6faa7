import { propertiesOf } from '../protocol/json-schema.js';
import { isJexoError } from '../errors.js';
import type { Exchange } from '../engine/exchange.js';
import { after, type JobEnd, type MaybePromise } from '../engine/store.js';
import type { TaskBook, TaskWork } from '../engine/task-book.js';
import type { Reach, TryAgain } from '../engine/task-entry.js';
import { errorCodes, isRawJson, RawJson, RpcError, type Params } from '../protocol/json-rpc.js';
import { since } from '../protocol/revisions.js';
import { shapeResult } from '../protocol/shape-down.js';
import type { CallToolResult } from '../protocol/types.js';
import { failed, isAnswer, serialiseStructured, settledOf, toResult, withStructure } from './answer.js';
import { Call } from './call.js';
import type { Catalogue } from './catalogue.js';
import { fieldOf } from './form.js';
import type { Request } from './middleware.js';
import { nearest } from './nearest.js';
import type { ToolOffer } from './offer.js';
import { describeIssues, type Checked, type Issue } from './schema.js';
import type { Session } from './session.js';
import { nextTry } from './task-retry.js';

export interface ToolCallContext {
  readonly catalogue: Catalogue;
  /** The handler with the middleware around it. */
  readonly run: (request: Request) => unknown;
  /** True when middleware may have changed an answer in place, so that nothing known of it before holds. */
  readonly hasMiddleware: boolean;
  readonly session: Session;
  readonly tasks: TaskBook;
  readonly owner: string;
  /** True when workers do the tasks. */
  readonly queueTasks: boolean;
  /** Called with what a handler throws. */
  readonly onThrow?: (error: unknown) => void;
}

/** Finds the tool, checks the input, runs it, checks the answer. Stays synchronous as long as everything it touches does. */
export function callTool(context: ToolCallContext, params: Params, exchange: Exchange): unknown {
  const { name } = params as { name: string };
  const tool = context.catalogue.tools.get(name)?.offer;
  if (tool === undefined) throw unknownTool(name, context.catalogue.tools.keys());
  return after(context.session.callDelay(), (delay): MaybePromise<unknown> => {
    if (delay > 0) return failed(`Too many calls: ${name} was not run. Try again in ${Math.ceil(delay / 1000)} seconds.`);
    return callOrStart(context, tool, params, exchange);
  });
}

function callOrStart(context: ToolCallContext, tool: ToolOffer, params: Params, exchange: Exchange): unknown {
  const { name } = tool;
  const input = (params.arguments ?? {}) as Record<string, unknown>;
  if (since(exchange.peer.revision, '2025-11-25')) {
    const { taskSupport = 'forbidden' } = tool;
    const asTask = params.task !== undefined;
    // Tasks, "Tool-Level Negotiation": the wrong kind of call is a method that is not there.
    if (asTask && taskSupport === 'forbidden') throw new RpcError(errorCodes.methodNotFound, `The tool ${name} cannot be run as a task`);
    if (!asTask && taskSupport === 'required') throw new RpcError(errorCodes.methodNotFound, `The tool ${name} must be run as a task`);
    if (asTask) return startTask(context, tool, params, exchange);
  }
  return perform(context, tool, input, exchange);
}

function startTask(context: ToolCallContext, tool: ToolOffer, params: Params, exchange: Exchange): unknown {
  const { session, tasks, owner } = context;
  const { task: _, ...plainParams } = params;
  const job = { session: session.record, params: plainParams, caller: exchange.caller ?? session.caller };
  let throws = 0;
  return tasks.start(exchange, owner, (reach) => attempt(context, tool, params, reach, throws++), context.queueTasks ? job : undefined);
}

/** Works on a task that was begun in another process. */
export function workOnTask(
  context: ToolCallContext,
  { job, run, signal, exchange }: Pick<TaskWork, 'job' | 'run' | 'signal' | 'exchange'>,
): Promise<JobEnd> {
  const { name } = job.params as { name: string };
  const tool = context.catalogue.tools.get(name)?.offer;
  const { idempotentHint, readOnlyHint } = tool?.annotations ?? {};
  return context.tasks.work({
    job,
    run,
    signal,
    exchange,
    isRepeatable: idempotentHint === true || readOnlyHint === true,
    perform(reach) {
      // Front processes and workers may serve different versions for a while.
      if (tool === undefined) throw unknownTool(name, context.catalogue.tools.keys());
      return attempt(context, tool, job.params, reach, job.throws);
    },
  });
}

/** @throws TryAgain when the handler has thrown, and is to run once more */
async function attempt(context: ToolCallContext, tool: ToolOffer, params: Params, reach: Reach, throws: number): Promise<unknown> {
  let again: TryAgain | undefined;
  const onThrow = (error: unknown) => (again = nextTry(tool.taskRetry, throws, error));
  const watched: ToolCallContext = { ...context, onThrow };
  const result = await perform(watched, tool, (params.arguments ?? {}) as Record<string, unknown>, reach);
  if (again !== undefined && !reach.signal.aborted) throw again;
  return plain(result);
}

/** A task's result is kept and given later, so it is a plain value. */
function plain(result: unknown): unknown {
  return isRawJson(result) ? JSON.parse(result.json) : result;
}

function perform(context: ToolCallContext, tool: ToolOffer, input: Record<string, unknown>, reach: Reach): unknown {
  const call = new Call(reach, context.session);
  const result = performFor(context, tool, input, call, reach);
  if (!context.hasMiddleware) return result;
  if (!(result instanceof Promise)) return call.answered(result);
  return result.then(
    (settled) => call.answered(settled),
    (error: unknown) => {
      call.answered(undefined);
      throw error;
    },
  );
}

function performFor(context: ToolCallContext, tool: ToolOffer, input: Record<string, unknown>, call: Call, reach: Reach): unknown {
  if (tool.ask !== undefined || tool.confirm !== undefined) return performWithQuestions(context, tool, input, call, reach);
  const checked = tool.input.check(input);
  return checked instanceof Promise
    ? checked.then((settled) => run(context, tool, settled, call, reach))
    : run(context, tool, checked, call, reach);
}

function run(context: ToolCallContext, tool: ToolOffer, checked: Checked, call: Call, reach: Reach): unknown {
  if (!checked.ok) return refuseInput(tool, checked.issues, reach);
  let value: unknown;
  try {
    value = context.run({ method: 'tools/call', offer: tool, input: checked.value, call });
  } catch (error) {
    return recover(context, tool, checked.value, error, call, reach);
  }
  if (!(value instanceof Promise)) return finish(context, tool, value, call, reach);
  return value.then(
    (settled) => finish(context, tool, settled, call, reach),
    (error) => recover(context, tool, checked.value, error, call, reach),
  );
}

/** What a tool declared to be asked is asked before its handler runs. */
async function performWithQuestions(
  context: ToolCallContext,
  tool: ToolOffer,
  input: Record<string, unknown>,
  call: Call,
  reach: Reach,
): Promise<unknown> {
  let complete = input;
  try {
    const missing = Object.entries(tool.ask ?? {}).filter(([property]) => input[property] === undefined);
    if (missing.length > 0 && call.session.can('elicitation.form')) {
      const properties = propertiesOf(tool.input.json);
      const fields = missing.map(([property]) => [property, fieldOf(property, properties[property]!, `tool ${tool.name}`)]);
      const message = missing.map(([, question]) => question).join(' ');
      const answers = await call.ask(message, {
        type: 'object',
        properties: Object.fromEntries(fields),
        required: missing.map(([property]) => property),
      });
      complete = { ...input, ...(answers as Record<string, unknown>) };
    }
    const checked = await tool.input.check(complete);
    if (!checked.ok) return refuseInput(tool, checked.issues, reach);
    complete = checked.value as Record<string, unknown>;
    const question = tool.confirm?.(complete as never);
    if (question !== undefined) await call.ask(question, { type: 'object', properties: {} });
  } catch (error) {
    return await recover(context, tool, complete, error, call, reach);
  }
  return run(context, tool, { ok: true, value: complete }, call, reach);
}

function unknownTool(name: string, names: Iterable<string>): RpcError {
  const near = nearest(name, names);
  const shown = name.length > 128 ? `${name.slice(0, 128)}...` : name;
  return new RpcError(errorCodes.invalidParams, `Unknown tool: ${shown}.${near === undefined ? '' : ` Did you mean ${near}?`}`);
}

/** From 2025-11-25 a model gets to see the refusal as a result; older revisions want a protocol error (Server features, "Error Handling"). */
function refuseInput(tool: ToolOffer, issues: readonly Issue[], reach: Reach): unknown {
  const text = `The input for ${tool.name} is not valid:\n${describeIssues(issues)}\nCorrect these fields and call ${tool.name} again.`;
  if (since(reach.peer.revision, '2025-11-25')) return failed(text);
  throw new RpcError(errorCodes.invalidParams, text, { issues });
}

function finish(context: ToolCallContext, tool: ToolOffer, value: unknown, call: Call, reach: Reach): unknown {
  const { revision } = reach.peer;
  try {
    const known = isAnswer(value) && !context.hasMiddleware ? settledOf(value) : undefined;
    if (known !== undefined && known.output === tool.output) return withStructure(value as CallToolResult, known.json, revision);
    if (tool.output === undefined || (isAnswer(value) && value.isError))
      return new RawJson(JSON.stringify(shapeResult(toResult(value), revision)));
    const structured = isAnswer(value) ? value.structuredContent : value;
    const checked = tool.output.check(structured);
    const go = (settled: Checked): unknown => {
      if (!settled.ok) return refuseOutput(tool, settled.issues, reach);
      if (isAnswer(value))
        return new RawJson(
          JSON.stringify(shapeResult({ ...value, structuredContent: settled.value as Record<string, unknown> }, revision)),
        );
      return serialiseStructured(settled.value as Record<string, unknown>, revision);
    };
    return checked instanceof Promise ? checked.then(go).catch((error: unknown) => failure(error, call)) : go(checked);
  } catch (error) {
    return failure(error, call);
  }
}

function refuseOutput(tool: ToolOffer, issues: readonly Issue[], reach: Reach): unknown {
  const reference = reach.peer.fault(new Error(`The answer of ${tool.name} does not fit its output schema:\n${describeIssues(issues)}`));
  return failed(
    `${tool.name} gave an answer that does not fit its own output schema (JEXO_OUTPUT_INVALID, reference ${reference}):\n${describeIssues(issues)}`,
  );
}

/** A tool that needed to ask a client which cannot may have something else to say. */
function recover(context: ToolCallContext, tool: ToolOffer, input: unknown, error: unknown, call: Call, reach: Reach): unknown {
  context.onThrow?.(error);
  if (tool.fallback === undefined || !isJexoError(error) || error.code !== 'JEXO_NOT_SUPPORTED') return failure(error, call);
  return Promise.resolve(tool.fallback(input as never, call)).then(
    (value) => finish(context, tool, value, call, reach),
    (second) => failure(second, call),
  );
}

const programming = new Set(['ReferenceError', 'SyntaxError', 'EvalError', 'AggregateError', 'AssertionError']);
/** What the engine itself says when code does what it cannot. */
const engineSays =
  /^Cannot (?:read|set|destructure|convert|access|mix|assign|delete|create|redefine|define)|^(?:Class constructor|Invalid attempt|Reduce of empty|Assignment to|Method \S+ called on|Right-hand side|Found non-callable|Iterator|Spread syntax|Object prototype may|Private field|Receiver must|Derived constructors)|is not (?:a function|iterable|a constructor|extensible|defined|async iterable|an object)\b|fetch failed|circular structure/;

/** True when an error was thrown on purpose, so that its words are meant to be read. */
function isDeliberate(error: Error): boolean {
  if (programming.has(error.name) || 'syscall' in error || error.message === '' || /:\d+:\d+\)?/.test(error.message)) return false;
  // The same name serves both: `throw new TypeError('count the mites first')` and a call of undefined.
  return error.name !== 'TypeError' || !('code' in error || engineSays.test(error.message));
}

/** An error's words with those of what caused it, as far as they were meant to be read. */
function told(error: Error): string {
  const lines = [error.message];
  for (let cause = error.cause, depth = 0; depth < 5; depth++) {
    if (typeof cause === 'string') lines.push(`Caused by: ${cause}`);
    if (!(cause instanceof Error) || !isDeliberate(cause)) break;
    lines.push(`Caused by: ${cause.message}`);
    cause = cause.cause;
  }
  return lines.join('\n');
}

/**
 * A deliberate error (`throw new Error('Hive MR-99 is not known')`) is told to the model; one that only shows a defect is
 * told to the operator, and the model gets a reference, so that internals stay off the wire.
 */
function failure(error: unknown, call: Call): unknown {
  // What a handler throws because it was told to stop is no fault, and nobody waits for it.
  if (call.signal.aborted) return failed('The call was cancelled.');
  if (error instanceof RpcError) {
    // A client that cannot open pages for a person does not know this error: there the model is told where a person has to go.
    if (error.code !== errorCodes.urlElicitationRequired) throw error;
    const { elicitations } = error.data as { elicitations: readonly { message: string; url: string; elicitationId: string }[] };
    if (call.session.can('elicitation.url')) {
      for (const { elicitationId } of elicitations) call.session.pageOpened(elicitationId);
      throw error;
    }
    return failed(elicitations.map(({ message, url }) => `${message} ${url}`).join('\n'));
  }
  if (isJexoError(error)) return failed(`${error.message} (${error.code})`);
  if (error instanceof Error && isDeliberate(error)) return failed(told(error));
  if (typeof error === 'string' && error !== '') return failed(error);
  return failed(`The tool failed for a reason of its own (reference ${call.fault(error)}). The same call will likely fail again.`);
}
