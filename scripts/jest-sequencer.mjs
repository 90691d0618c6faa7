// What takes longest begins first, so that no worker is left alone with it at the end.
import Sequencer from '@jest/test-sequencer';

const long = [
  'docs/commands.test',
  'pack/forms.test',
  'pack/secrets.test',
  'inspect/page-places.test',
  'cli/new.test',
  'cli/plan.test',
  'view/hostile-views.test',
  'docs/consumers.test',
];

export default class LongestFirst extends (Sequencer.default ?? Sequencer) {
  sort(tests) {
    const place = ({ path }) => {
      const at = long.findIndex((name) => path.includes(name));
      return at < 0 ? long.length : at;
    };
    return [...super.sort(tests)].sort((a, b) => place(a) - place(b));
  }
}
