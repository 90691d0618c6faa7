import type { NeededSetting, Settings } from '../../offers/source.js';
import { createUpstream, neededFor, type Upstream } from '../http/upstream.js';
import { baseOf } from './address.js';
import { slugOf } from './name-operations.js';
import type { Api, Operation } from './operation.js';
import type { OperationInput } from './operation-input.js';
import { prepareOperation, type Prepared } from './prepare-operation.js';
import type { WrapRestOptions } from './wrap-rest.js';
import type { JsonSchema } from '../../protocol/types.js';

/** One API as it is called. */
export interface Service {
  readonly upstream: Upstream;
  /** @param makeInput and `promise` convert schemas of the document, when the operation is first listed or called */
  prepare(operation: Operation, makeInput: () => OperationInput, promise: (() => JsonSchema) | undefined): Prepared;
  /** What calls of these operations need of the environment. */
  settingsFor(operations: readonly Operation[]): readonly NeededSetting[];
}

export function createService(api: Api, options: WrapRestOptions, settings: Settings): Service {
  const title = options.name ?? api.title;
  const upstream = createUpstream({ ...api, title }, slugOf(title), options, settings);
  const addressOf = (operation: Operation) => baseOf(operation, api, options, settings);
  return {
    upstream,
    prepare: (operation, makeInput, promise) =>
      prepareOperation({ operation, makeInput, promise, upstream, options, settings, base: () => addressOf(operation) }),
    settingsFor: (operations) => [
      ...neededFor(options.baseUrl, `the address of ${title}`, false),
      ...upstream.needed(
        operations.map(({ security }) => security),
        hostOf(operations[0], addressOf),
      ),
    ],
  };
}

/** Where requests go; undefined while nothing says so. */
function hostOf(operation: Operation | undefined, addressOf: (operation: Operation) => URL): string | undefined {
  try {
    return operation === undefined ? undefined : addressOf(operation).host;
  } catch {
    return undefined; // calls will say that the address is missing
  }
}
