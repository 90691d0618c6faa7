import { defineServer } from './offers/define-server.js';
import { readContext, type Source, type SourceContents } from './offers/source.js';
import { connect } from './targets/connect.js';
import { createWireJudge } from './inspect/judge-wire.js';

/** One thing that every source should do. */
export interface SourceCheck {
  /** As a test is called: `reading twice gives the same`. */
  readonly name: string;
  /** Rejects with what is wrong. */
  run(): Promise<void>;
}

/**
 * Checks for a source of your own, to be run as tests: its offers are valid, reading is repeatable and can be cancelled, omissions are
 * explained, what is frozen thaws to the same, and closing leaves nothing open.
 *
 * @param make gives a source of its own to each check
 * @example
 * for (const { name, run } of sourceChecks(() => wrapReadings('readings.csv'))) test(name, run);
 */
export function sourceChecks(make: () => Source): readonly SourceCheck[] {
  const using = async (work: (source: Source) => Promise<void>): Promise<void> => {
    const source = make();
    try {
      await work(source);
    } finally {
      await source.close?.();
    }
  };
  return [
    { name: 'every offer is valid, and can be listed', run: () => using(checkOffers) },
    { name: 'reading twice gives the same', run: () => using(checkTwice) },
    { name: 'a read that nobody waits for ends', run: () => using(checkCancelled) },
    { name: 'what is omitted is explained', run: () => using(checkOmissions) },
    { name: 'what is frozen thaws to the same', run: () => using(checkFrozen) },
    { name: 'watching can be stopped', run: () => using(checkWatch) },
    { name: 'it closes, can be read again, and leaves nothing open', run: () => checkClosed(make) },
  ];
}

const read = (source: Source, signal?: AbortSignal) => source.read(readContext(signal === undefined ? {} : { signal }));

function ensure(isRight: boolean, otherwise: string): void {
  if (!isRight) throw new Error(otherwise);
}

/** What clients see of a source, and what of it breaks the protocol. */
async function listingOf(source: Source): Promise<string> {
  const wrong: string[] = [];
  const judge = createWireJudge();
  const server = defineServer({ name: 'source-checks', version: '1.0.0', offers: [source] });
  const client = await connect(server, {
    tap(event) {
      const why = judge(event);
      if (why !== undefined) wrong.push(why);
    },
  });
  try {
    const { tools, resources, prompts } = client.server.capabilities;
    const found = [
      tools === undefined ? [] : await client.tools(),
      resources === undefined ? [] : await client.resources(),
      resources === undefined ? [] : await client.templates(),
      prompts === undefined ? [] : await client.prompts(),
    ];
    ensure(wrong.length === 0, `Its listing breaks the protocol: ${wrong.join('; ')}`);
    return JSON.stringify(found);
  } finally {
    await client.close();
  }
}

async function checkOffers(source: Source): Promise<void> {
  ensure(typeof source.name === 'string' && source.name !== '', 'A source needs a name: it is shown beside its offers.');
  const { offers } = await read(source);
  ensure(Array.isArray(offers), 'read() must give { offers: […] }.');
  for (const offer of offers)
    if (offer.kind === 'tool')
      ensure((offer.description ?? '').trim() !== '', `The tool ${offer.name} has no description: a model does not know when to use it.`);
  await listingOf(source);
}

async function checkTwice(source: Source): Promise<void> {
  const [first, second] = [await listingOf(source), await listingOf(source)];
  ensure(first === second, 'A second read offers something else, although nothing has changed.');
}

const patienceMs = 5000;

async function checkCancelled(source: Source): Promise<void> {
  const late = new Promise<string>((resolve) => setTimeout(() => resolve('late'), patienceMs).unref());
  const ended = read(source, AbortSignal.abort()).then(
    () => 'ended',
    () => 'ended',
  );
  ensure((await Promise.race([ended, late])) === 'ended', `A read whose signal is aborted still runs after ${patienceMs / 1000} s.`);
}

async function checkOmissions(source: Source): Promise<void> {
  const { omitted = [] } = await read(source);
  for (const omission of omitted)
    for (const field of ['name', 'what', 'where', 'why', 'next', 'code'] as const)
      ensure((omission[field] ?? '') !== '', `The omission of ${omission.name || 'something'} has no ${field}.`);
}

async function checkFrozen(source: Source): Promise<void> {
  const frozen = await source.freeze?.(readContext());
  if (frozen === undefined) return;
  ensure(source.thaw !== undefined, 'It freezes, but has no thaw().');
  const carried = JSON.parse(JSON.stringify(frozen)) as unknown;
  const thawed = source.thaw!(carried);
  try {
    ensure((await listingOf(thawed)) === (await listingOf(source)), 'What is thawed offers something else than what was frozen.');
  } finally {
    await thawed.close?.();
  }
}

async function checkWatch(source: Source): Promise<void> {
  await read(source);
  const stop = source.watch?.(() => undefined);
  if (source.watch === undefined) return;
  ensure(typeof stop === 'function', 'watch() must give a function that stops it.');
  stop!();
  stop!();
}

const settleMs = 300;

async function checkClosed(make: () => Source): Promise<void> {
  const source = make();
  // What the source loads at its first read stays for the next.
  const first: SourceContents = await read(source);
  await source.close?.();
  const before = await openHandles();
  const again = await read(source);
  ensure(again.offers.length === first.offers.length, 'After close() it offers something else.');
  await source.close?.();
  await source.close?.();
  const after = await openHandles();
  const left = [...new Set(after)].filter(
    (kind) => after.filter((each) => each === kind).length > before.filter((each) => each === kind).length,
  );
  ensure(left.length === 0, `After close() something is still open: ${left.join(', ')}.`);
}

/** What keeps the process alive now, once what is closing has closed. */
async function openHandles(): Promise<string[]> {
  await new Promise((resolve) => setTimeout(resolve, settleMs));
  return process.getActiveResourcesInfo().filter((kind) => kind !== 'Timeout' && kind !== 'Immediate');
}
