/** Edits (insert, delete, replace, swap of neighbours) that turn one word into another. */
export function distance(a: string, b: string): number {
  let before: number[] = [];
  let last = Array.from({ length: b.length + 1 }, (_, index) => index);
  for (let i = 1; i <= a.length; i++) {
    const row = [i];
    for (let j = 1; j <= b.length; j++) {
      const same = a[i - 1] === b[j - 1] ? 0 : 1;
      let best = Math.min(last[j]! + 1, row[j - 1]! + 1, last[j - 1]! + same);
      if (i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1]) best = Math.min(best, before[j - 2]! + 1);
      row.push(best);
    }
    before = last;
    last = row;
  }
  return last[b.length]!;
}

/** The name most like `wanted`, when one is like it enough to be meant. */
export function nearest(wanted: string, names: Iterable<string>): string | undefined {
  const plain = (name: string) => name.toLowerCase().replaceAll(/[^a-z0-9]/g, '');
  const target = plain(wanted).slice(0, 128);
  let found: string | undefined;
  let least = Math.max(2, Math.floor(target.length / 3)) + 1;
  for (const name of names) {
    const apart = distance(target, plain(name).slice(0, 128));
    if (apart < least) [found, least] = [name, apart];
  }
  return found;
}
