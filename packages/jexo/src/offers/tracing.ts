/** What traces the work of this process, where somebody has asked for it. */
export interface Tracer {
  /** Headers that carry the running trace to another service (W3C Trace Context): `traceparent`, `tracestate`. */
  outgoing(): Readonly<Record<string, string>>;
  /** Runs a part of a traced call as a span of its own. */
  span<T>(name: string, attributes: Readonly<Record<string, string>>, work: () => Promise<T>): Promise<T>;
}

let tracer: Tracer | undefined;

/** From now on work is traced by this. */
export function useTracer(next: Tracer): void {
  tracer = next;
}

/** What is sent with requests to other services; nothing when nothing is traced. */
export function outgoingTrace(): Readonly<Record<string, string>> {
  return tracer?.outgoing() ?? {};
}

/** Runs `work`, as a span when work is traced. */
export function inSpan<T>(name: string, attributes: Readonly<Record<string, string>>, work: () => Promise<T>): Promise<T> {
  return tracer === undefined ? work() : tracer.span(name, attributes, work);
}
