/** One group of cases of a report, as tools of continuous integration read it (JUnit's XML). */
export interface ReportSuite {
  readonly name: string;
  readonly tookMs: number;
  readonly cases: readonly {
    readonly name: string;
    readonly file: string;
    readonly line: number;
    readonly tookMs: number;
    readonly failure?: string;
  }[];
}

export function toJUnit(suites: readonly ReportSuite[]): string {
  const all = suites.flatMap(({ cases }) => cases);
  const counts = (cases: ReportSuite['cases'], tookMs: number) =>
    `tests="${cases.length}" failures="${cases.filter(({ failure }) => failure !== undefined).length}" time="${seconds(tookMs)}"`;
  const took = suites.reduce((sum, { tookMs }) => sum + tookMs, 0);
  return [
    '<?xml version="1.0" encoding="UTF-8"?>',
    `<testsuites name="jexo" ${counts(all, took)}>`,
    ...suites.flatMap(({ name, tookMs, cases }) => [
      `  <testsuite name="${xml(name)}" ${counts(cases, tookMs)}>`,
      ...cases.flatMap(({ name: own, file, line, tookMs: each, failure }) => {
        const open = `    <testcase classname="${xml(name)}" name="${xml(own)}" file="${xml(file)}" line="${line}" time="${seconds(each)}"`;
        const [first = ''] = failure?.split('\n') ?? [];
        return failure === undefined
          ? [`${open}/>`]
          : [`${open}>`, `      <failure message="${xml(first)}">${xml(failure)}</failure>`, '    </testcase>'];
      }),
      '  </testsuite>',
    ]),
    '</testsuites>',
    '',
  ].join('\n');
}

const seconds = (ms: number) => (ms / 1000).toFixed(3);

/** Drops characters that XML cannot hold. */
function xml(text: string): string {
  return text
    .replaceAll(/[^\t\n\r\u0020-\uD7FF\uE000-\uFFFD\u{10000}-\u{10FFFF}]/gu, '')
    .replaceAll('&', '&amp;')
    .replaceAll('<', '&lt;')
    .replaceAll('>', '&gt;')
    .replaceAll('"', '&quot;')
    .replaceAll('\n', '&#10;');
}
