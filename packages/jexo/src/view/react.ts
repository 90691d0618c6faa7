/**
 * The host of a page as a hook.
 *
 * @module jexo/view/react
 */
import { useEffect, useState } from 'react';
import { openView } from './open-view.js';
import type { HostContext, InputOf, OutputOf, View, ViewOptions, ViewResult } from './view-types.js';

/** What a component knows of the host. */
export interface ViewState<T, Tools extends Record<string, unknown>> {
  /** Undefined until the host has answered. */
  readonly view: View<T, Tools> | undefined;
  /** What the tool was called with; undefined until it is known. */
  readonly input: InputOf<T> | undefined;
  /** The input as far as the model has written it. */
  readonly partial: Partial<InputOf<T>> | undefined;
  /** The tool’s answer; undefined until it is there. */
  readonly result: ViewResult<OutputOf<T>> | undefined;
  /** What the host says of the place; empty until it has answered. */
  readonly context: HostContext;
  /** True once the call was cancelled. */
  readonly isCancelled: boolean;
  /** No host answered. */
  readonly error: Error | undefined;
}

let opened: Promise<View<never, never>> | undefined;

/**
 * Opens the view once for the page, and renders again with whatever the host says.
 *
 * @example
 * const { view, result } = useView<typeof hiveWeight>();
 */
export function useView<T = unknown, Tools extends Record<string, unknown> = Record<string, unknown>>(
  options?: ViewOptions,
): ViewState<T, Tools> {
  const [state, setState] = useState<ViewState<T, Tools>>({
    view: undefined,
    input: undefined,
    partial: undefined,
    result: undefined,
    context: {},
    isCancelled: false,
    error: undefined,
  });
  useEffect(() => {
    let stops: (() => void)[] | undefined = [];
    const become = (next: Partial<ViewState<T, Tools>>) => setState((before) => ({ ...before, ...next }));
    (opened ??= openView<never, never>(options)).then(
      (found) => {
        if (stops === undefined) return;
        const view = found as unknown as View<T, Tools>;
        become({ view });
        stops.push(
          view.onInput((input) => become({ input, partial: undefined })),
          view.onPartialInput((partial) => become({ partial })),
          view.onResult((result) => become({ result })),
          view.onCancelled(() => become({ isCancelled: true })),
          view.onContext((context) => become({ context })),
        );
      },
      (error: Error) => {
        opened = undefined;
        become({ error });
      },
    );
    return () => {
      stops?.forEach((stop) => stop());
      stops = undefined;
    };
    // The options of the first rendering hold: a page has one host.
  }, []);
  return state;
}
