/** An expression as a schema check asks it. */
export interface PatternCheck {
  test(text: string): boolean;
  toString(): string;
}

/** Steps a match may take before it is put where it can be stopped; a native match makes some hundred million in a second. */
const mostSteps = 2_000_000;
/** Milliseconds a match may take there. */
const limitMs = 100;

/**
 * A pattern of a schema, which somebody else may have written, on a text that somebody else may have sent: it never holds the process
 * for long. Patterns that are cheap by their form are matched at once; the others run with a limit of time where the runtime has one,
 * and what cannot be told within it does not match.
 *
 * @throws SyntaxError for a pattern that is none
 */
export function boundedPattern(source: string, flags: string): PatternCheck {
  const pattern = new RegExp(source, flags);
  const degree = degreeOf(source);
  return {
    // Validators tell patterns apart by this.
    toString: () => String(pattern),
    test(text) {
      if (degree === undefined ? text.length < 20 : text.length ** degree <= mostSteps) {
        pattern.lastIndex = 0;
        return pattern.test(text);
      }
      return testWithin(source, flags, text);
    },
  };
}

/**
 * How the time of a match grows with the text: as its length to this power, at most. Undefined where it may double with each
 * character: a repeated group that itself repeats, or chooses.
 */
export function degreeOf(source: string): number | undefined {
  let loops = 0;
  /** For each open group: whether it holds a repetition or a choice. */
  const groups: boolean[] = [];
  let inClass = false;
  for (let at = 0; at < source.length; at++) {
    const letter = source[at]!;
    if (letter === '\\') {
      at++;
      continue;
    }
    if (inClass) {
      if (letter === ']') inClass = false;
      continue;
    }
    if (letter === '[') inClass = true;
    else if (letter === '(') groups.push(false);
    else if (letter === '|') groups.fill(true);
    else if (letter === ')') {
      const isRich = groups.pop() ?? false;
      if (repeats(source, at + 1) > 1) {
        if (isRich) return undefined;
        groups.fill(true);
        loops++;
      }
    } else {
      const times = source[at - 1] === ')' || at === 0 ? 0 : repeats(source, at);
      if (times > 1) {
        groups.fill(true);
        // A few times at most cost no more than a longer pattern.
        if (times > 64) loops++;
      }
    }
  }
  // Without a start to hold on to, a match is tried at every place.
  return loops + (source.startsWith('^') ? 0 : 1) || 1;
}

/** How often what stands before this place may be repeated; 1 when it may not. */
function repeats(source: string, at: number): number {
  const letter = source[at];
  if (letter === '*' || letter === '+') return Infinity;
  const [, least, comma, most] = /^\{(\d+)(,?)(\d*)\}/.exec(source.slice(at, at + 24)) ?? [];
  return least === undefined ? 1 : comma === '' ? Number(least) : most === '' ? Infinity : Number(most);
}

interface Machine {
  createContext(values: object): object;
  runInContext(code: string, context: object, options: { timeout: number }): unknown;
}

/** The runtime's means to stop a piece of work from outside; undefined in browsers. */
const machine = (globalThis as { process?: { getBuiltinModule?(name: string): unknown } }).process?.getBuiltinModule?.('node:vm') as
  Machine | undefined;

function testWithin(source: string, flags: string, text: string): boolean {
  // Where nothing can stop it, it is not tried: the other side applies its own pattern all the same.
  if (machine === undefined) return true;
  const context = machine.createContext({ source, flags, text });
  try {
    return machine.runInContext('new RegExp(source, flags).test(text)', context, { timeout: limitMs }) === true;
  } catch {
    return false; // its time was up
  }
}
