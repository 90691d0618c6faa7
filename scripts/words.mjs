// Words and phrases that we do not use, because they are not what an engineer would write. Part of npm run lint.
import { readFileSync } from 'node:fs';
import { execFileSync } from 'node:child_process';

/** What to look for, and what to write instead. */
const unwanted = [
  [/\bmend(?:s|ed|ing)?\b/i, 'fix'],
  [/\bgrave(?:st|r|ly)?\b/, 'severe'],
  [/\bgravity\b/i, 'severity'],
  [/\banew\b/i, 'again, or a verb with re-'],
  [/\bsuch a one\b/i, 'name it'],
  [/\b(?:is|are|be|was|were) told of\b|^\W*Told of\b/i, 'is reported'],
  [/\btake[sn]? back\b/i, 'revert'],
  [/\blets? go of\b/i, 'release'],
  [/\b(?:leave|leaves|leaving) out\b|\bleft out\b/i, 'omit, exclude or drop'],
  [/\bwhat of the protocol\b/i, 'which rules of the protocol'],
  [/\bwhoever (?:wraps|runs|calls)\b/i, 'the person or the role'],
  [/\bthat is all of it\b/i, "that's all"],
  [/\bthe whole of it\b/i, 'all details'],
  [/\bis proven by which\b/i, 'which test proves'],
  [/\bunless told otherwise\b/i, 'by default'],
  [/\bcarry it away\b/i, 'ship it'],
];

const files = execFileSync('git', ['ls-files', '*.md', '*.ts', '*.tsx', '*.mjs', '*.yaml'], { encoding: 'utf8' })
  .split('\n')
  .filter((file) => file !== '' && file !== 'scripts/words.mjs' && !file.startsWith('packages/jexo/assets/'));
let found = 0;
for (const file of files) {
  const lines = readFileSync(file, 'utf8').split('\n');
  lines.forEach((line, index) => {
    for (const [pattern, better] of unwanted) {
      const [words] = pattern.exec(line) ?? [];
      if (words === undefined) continue;
      found++;
      console.error(`${file}:${index + 1}: "${words.trim()}": ${better}`);
    }
  });
}
if (found > 0) process.exit(1);
