import fc from 'fast-check';
import { LineReader } from '../../src/transports/lines.js';

function read(chunks: readonly Buffer[], max = 1000) {
  const lines: string[] = [];
  let tooLong = 0;
  const reader = new LineReader(
    max,
    (line) => void lines.push(line),
    () => void tooLong++,
  );
  for (const chunk of chunks) reader.push(chunk);
  reader.end();
  return { lines, tooLong };
}

test('[MCP-168] whatever the chunks, the lines are the same', () => {
  const line = fc.string({ unit: 'grapheme', minLength: 1 }).filter((text) => !/[\n\r]/.test(text) && text.trim() !== '');
  fc.assert(
    fc.property(fc.array(line), fc.array(fc.nat(50), { maxLength: 30 }), (lines, cuts) => {
      const bytes = Buffer.from(lines.join('\n'));
      const chunks: Buffer[] = [];
      let start = 0;
      for (const cut of cuts) {
        chunks.push(bytes.subarray(start, start + cut));
        start += cut;
      }
      chunks.push(bytes.subarray(start));
      expect(read(chunks).lines).toEqual(lines);
    }),
  );
});

test('a line that is too long is skipped, and the next one is read', () => {
  const long = 'x'.repeat(60);
  expect(read([Buffer.from(`${long}${long}`), Buffer.from(`${long}\nnext\n`)], 100)).toEqual({ lines: ['next'], tooLong: 1 });
});

test('blank lines and carriage returns are passed over', () => {
  expect(read([Buffer.from('a\r\n\r\n  \nb')]).lines.map((line) => line.trim())).toEqual(['a', 'b']);
});
