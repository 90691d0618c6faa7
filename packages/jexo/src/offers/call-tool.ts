import { isJexoError } from '../errors.js';
import type { Exchange } from '../engine/exchange.js';
import { errorCodes, RawJson, RpcError, type Params } from '../protocol/json-rpc.js';
import { shapeResult } from '../protocol/shape-down.js';
import { since } from '../protocol/revisions.js';
import { failed, isAnswer, isRecord, serialiseStructured, toResult } from './answer.js';
import { Call } from './call.js';
import type { Catalogue } from './catalogue.js';
import type { Request } from './middleware.js';
import { nearest } from './nearest.js';
import type { ToolOffer } from './offer.js';
import { describeIssues, type Checked, type Issue } from './schema.js';
import type { Session } from './session.js';

/** Finds the tool, checks the input, runs it, checks the answer. Stays synchronous as long as everything it touches does. */
export function callTool(
  catalogue: Catalogue,
  run: (request: Request) => unknown,
  params: Params,
  exchange: Exchange,
  session: Session,
): unknown {
  const { name } = params;
  if (typeof name !== 'string') throw new RpcError(errorCodes.invalidParams, 'tools/call: name must be a string');
  const input: unknown = params.arguments ?? {};
  if (!isRecord(input)) throw new RpcError(errorCodes.invalidParams, 'tools/call: arguments must be an object');
  const tool = catalogue.tools.get(name)?.offer;
  if (tool === undefined) throw unknownTool(name, catalogue.tools.keys());

  const go = (checked: Checked): unknown => {
    if (!checked.ok) return refuseInput(tool, checked.issues, exchange);
    let value: unknown;
    try {
      value = run({ tool, input: checked.value, call: new Call(exchange, session) });
    } catch (error) {
      return failure(error, exchange);
    }
    if (!(value instanceof Promise)) return finish(tool, value, exchange);
    return value.then(
      (settled) => finish(tool, settled, exchange),
      (error) => failure(error, exchange),
    );
  };
  const checked = tool.input.check(input);
  return checked instanceof Promise ? checked.then(go) : go(checked);
}

function unknownTool(name: string, names: Iterable<string>): RpcError {
  const near = nearest(name, names);
  const shown = name.length > 128 ? `${name.slice(0, 128)}...` : name;
  return new RpcError(errorCodes.invalidParams, `Unknown tool: ${shown}.${near === undefined ? '' : ` Did you mean ${near}?`}`);
}

/** From 2025-11-25 a model gets to see the refusal as a result; older revisions want a protocol error (Server features, "Error Handling"). */
function refuseInput(tool: ToolOffer, issues: readonly Issue[], exchange: Exchange): unknown {
  const text = `The input for ${tool.name} is not valid:\n${describeIssues(issues)}\nMend these fields and call ${tool.name} again.`;
  if (since(exchange.peer.revision, '2025-11-25')) return failed(text);
  throw new RpcError(errorCodes.invalidParams, text, { issues });
}

function finish(tool: ToolOffer, value: unknown, exchange: Exchange): unknown {
  const { revision } = exchange.peer;
  try {
    if (tool.output === undefined || (isAnswer(value) && value.isError))
      return new RawJson(JSON.stringify(shapeResult(toResult(value), revision)));
    const structured = isAnswer(value) ? value.structuredContent : value;
    const checked = tool.output.check(structured);
    const go = (settled: Checked): unknown => {
      if (!settled.ok) return refuseOutput(tool, settled.issues, exchange);
      if (isAnswer(value))
        return new RawJson(
          JSON.stringify(shapeResult({ ...value, structuredContent: settled.value as Record<string, unknown> }, revision)),
        );
      return serialiseStructured(settled.value as Record<string, unknown>, revision);
    };
    return checked instanceof Promise ? checked.then(go).catch((error: unknown) => failure(error, exchange)) : go(checked);
  } catch (error) {
    return failure(error, exchange);
  }
}

function refuseOutput(tool: ToolOffer, issues: readonly Issue[], exchange: Exchange): unknown {
  const reference = exchange.peer.fault(new Error(`The answer of ${tool.name} does not fit its output schema:\n${describeIssues(issues)}`));
  return failed(
    `${tool.name} gave an answer that does not fit its own output schema (JEXO_OUTPUT_INVALID, reference ${reference}):\n${describeIssues(issues)}`,
  );
}

const programming = new Set(['TypeError', 'ReferenceError', 'SyntaxError', 'EvalError', 'AggregateError', 'AssertionError']);

/**
 * A deliberate error (`throw new Error('Hive MR-99 is not known')`) is told to the model; one that only shows a defect is
 * told to the operator, and the model gets a reference, so that internals stay off the wire.
 */
function failure(error: unknown, exchange: Exchange): unknown {
  if (error instanceof RpcError) throw error;
  if (isJexoError(error)) return failed(`${error.message} (${error.code})`);
  if (error instanceof Error && !programming.has(error.name) && !('syscall' in error) && error.message !== '') return failed(error.message);
  if (typeof error === 'string' && error !== '') return failed(error);
  return failed(`The tool failed for a reason of its own (reference ${exchange.peer.fault(error)}). The same call will likely fail again.`);
}
