import type { Exchange } from '../engine/exchange.js';
import { isJexoError } from '../errors.js';
import { errorCodes, RpcError, type Params } from '../protocol/json-rpc.js';
import { shapePromptResult, shapeReadResult } from '../protocol/shape-down.js';
import { Call } from './call.js';
import type { Catalogue } from './catalogue.js';
import { complete, type CompletionInput } from './completion.js';
import type { Request } from './middleware.js';
import { nearest } from './nearest.js';
import type { PromptOffer, ResourceOffer, TemplateOffer } from './offer.js';
import { toMessages } from './prompt.js';
import { notFound, toContents } from './resource.js';
import { describeIssues } from './schema.js';
import type { Session } from './session.js';

type Run = (request: Request) => unknown;

interface Found {
  readonly offer: ResourceOffer | TemplateOffer;
  readonly input: Record<string, unknown>;
}

export function findResource(catalogue: Catalogue, uri: string): Found | undefined {
  const exact = catalogue.resources.get(uri)?.offer;
  if (exact !== undefined) return { offer: exact, input: { uri } };
  for (const { offer } of catalogue.templates.values()) {
    const variables = offer.template.match(uri);
    if (variables !== undefined) return { offer, input: variables };
  }
  return undefined;
}

export function hasResource(catalogue: Catalogue, uri: string): boolean {
  return findResource(catalogue, uri) !== undefined;
}

/** @throws RpcError -32002 */
export function requireResource(catalogue: Catalogue, uri: string): ResourceOffer | TemplateOffer {
  const found = findResource(catalogue, uri);
  if (found === undefined) throw notFound(uri);
  return found.offer;
}

export async function readResource(catalogue: Catalogue, run: Run, uri: string, exchange: Exchange, session: Session): Promise<object> {
  const found = findResource(catalogue, uri);
  if (found === undefined) throw notFound(uri);
  const { offer, input } = found;
  // A template's reader gets the URI beside its variables.
  const asked =
    offer.kind === 'template'
      ? { ...offer, run: (variables: never, call: Call) => (offer.run as (...args: unknown[]) => unknown)(variables, call, { uri }) }
      : offer;
  const call = new Call(exchange, session);
  return answering(call, async () => {
    const value = await run({ method: 'resources/read', offer: asked, input, call });
    return shapeReadResult(toContents(value, uri, offer.mimeType), exchange.peer.revision);
  });
}

export async function renderPrompt(catalogue: Catalogue, run: Run, params: Params, exchange: Exchange, session: Session): Promise<object> {
  const offer = findPrompt(catalogue, params.name);
  let input: unknown = params.arguments ?? {};
  if (offer.input !== undefined) {
    const checked = await offer.input.check(input);
    if (!checked.ok)
      throw new RpcError(errorCodes.invalidParams, `The arguments of ${offer.name} are not valid:\n${describeIssues(checked.issues)}`, {
        issues: checked.issues,
      });
    input = checked.value;
  }
  const call = new Call(exchange, session);
  return answering(call, async () => {
    const value = await run({ method: 'prompts/get', offer, input, call });
    return shapePromptResult(toMessages(value, offer.description), exchange.peer.revision);
  });
}

function findPrompt(catalogue: Catalogue, name: string): PromptOffer {
  const offer = catalogue.prompts.get(name)?.offer;
  if (offer !== undefined) return offer;
  const near = nearest(name, catalogue.prompts.keys());
  throw new RpcError(
    errorCodes.invalidParams,
    `Unknown prompt: ${name.slice(0, 128)}.${near === undefined ? '' : ` Did you mean ${near}?`}`,
  );
}

export async function completeArgument(
  catalogue: Catalogue,
  run: Run,
  params: Params,
  exchange: Exchange,
  session: Session,
): Promise<object> {
  const { ref } = params;
  const complete = (offer: PromptOffer | TemplateOffer) => completeFor(offer, run, params, new Call(exchange, session));
  if (ref.type === 'ref/prompt') return complete(findPrompt(catalogue, ref.name));
  const template = catalogue.templates.get(ref.uri)?.offer;
  if (template !== undefined) return complete(template);
  // A plain resource has nothing to complete; what is neither is a mistake.
  if (catalogue.resources.has(ref.uri)) return { completion: { values: [], total: 0, hasMore: false } };
  throw new RpcError(errorCodes.invalidParams, `Unknown resource template: ${ref.uri}`);
}

/** Middleware sees a completion as a request for the prompt or template whose argument it is. */
function completeFor(offer: PromptOffer | TemplateOffer, run: Run, params: Params, call: Call): Promise<object> {
  const { name: argument, value } = params.argument as { name: string; value: string };
  const asked = { ...offer, run: (input: never) => complete(offer, input) };
  const input: CompletionInput = { argument, value, arguments: params.context?.arguments ?? {} };
  return answering(call, async () => run({ method: 'completion/complete', offer: asked, input, call }) as Promise<object>);
}

/** Runs a request; whoever wants to know what it came to is told. */
async function answering(call: Call, work: () => Promise<object>): Promise<object> {
  try {
    return call.answered(await deliberate(work)) as object;
  } catch (error) {
    call.answered(undefined);
    throw error;
  }
}

/** Errors a handler threw on purpose keep their words; anything else stays off the wire, with a reference (the peer's doing). */
async function deliberate<T>(run: () => Promise<T>): Promise<T> {
  try {
    return await run();
  } catch (error) {
    if (error instanceof RpcError) throw error;
    if (isJexoError(error)) throw new RpcError(errorCodes.internalError, `${error.message} (${error.code})`);
    if (error instanceof Error && error.constructor === Error && error.message !== '' && !('syscall' in error))
      throw new RpcError(errorCodes.internalError, error.message);
    throw error;
  }
}
