/** The cooperative's records, made up by a seeded generator: every run of the demo shows the same figures. */

export const apiaries = {
  MR: 'Millrace',
  UC: 'Upper Croft',
  SM: 'Saltmarsh',
  FH: 'Fernhollow',
  QB: 'Quarry Bank',
  LM: 'Long Meadow',
} as const;
export type ApiaryCode = keyof typeof apiaries;
export const apiaryCodes = Object.keys(apiaries) as ApiaryCode[];

export interface Hive {
  readonly id: string;
  readonly apiary: ApiaryCode;
  readonly queen: { readonly year: number; readonly line: string; readonly colour: string };
  /** Frames of brood, 0 to 10. */
  readonly strength: number;
  readonly inspections: readonly { readonly date: string; readonly note: string }[];
}

/** A small seeded generator: the same seed gives the same numbers everywhere. */
export function seeded(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4294967296;
  };
}

const markings = ['white', 'yellow', 'red', 'green', 'blue'];
const lines = ['Alder', 'Heath', 'Croft', 'Marsh'];
const notes = [
  'Calm, eggs seen.',
  'Two queen cells taken out.',
  'Stores low, fed.',
  'Super added.',
  'Chalkbrood on two frames.',
  'Strong flow, wax drawn.',
  'Queen seen, marked.',
];

function makeHives(): Map<string, Hive> {
  const random = seeded(20260601);
  const pick = <T>(list: readonly T[]): T => list[Math.floor(random() * list.length)]!;
  const hives = new Map<string, Hive>();
  for (const apiary of apiaryCodes) {
    const count = 6 + Math.floor(random() * 3);
    for (let number = 1; number <= count; number++) {
      const id = `${apiary}-${String(number).padStart(2, '0')}`;
      const year = 2023 + Math.floor(random() * 4);
      const inspections = Array.from({ length: 3 }, (_, index) => ({
        date: `2026-0${4 + index}-${String(1 + Math.floor(random() * 28)).padStart(2, '0')}`,
        note: pick(notes),
      }));
      hives.set(id, {
        id,
        apiary,
        queen: { year, line: pick(lines), colour: markings[(year - 1) % 5]! },
        strength: Math.floor(random() * 11),
        inspections,
      });
    }
  }
  return hives;
}

export const hives = makeHives();

/** Readings of one scale through a year, one every 15 minutes: kilograms. */
export function* yearOfWeights(hive: Hive): Generator<number> {
  const random = seeded([...hive.id].reduce((sum, letter) => sum * 31 + letter.charCodeAt(0), 7));
  let weight = 28 + hive.strength;
  for (let quarter = 0; quarter < 35_040; quarter++) {
    const day = quarter / 96;
    const flow = day > 120 && day < 210 ? hive.strength / 30 : -0.02;
    weight = Math.max(14, weight + flow / 96 + (random() - 0.5) * 0.02);
    yield weight;
  }
}
