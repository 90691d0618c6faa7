import type { Revision } from '../revisions.js';
import { baseOf } from './base.js';
import { capabilitiesOf } from './capabilities.js';
import { contentOf } from './content.js';
import { elicitationOf } from './elicitation.js';
import { offersOf } from './offers.js';
import { samplingOf } from './sampling.js';
import { tasksOf } from './tasks.js';

/** All that the messages of one revision are made of. */
export function partsOf(revision: Revision) {
  const base = baseOf(revision);
  const content = contentOf(base);
  const offers = offersOf(base, content);
  return {
    ...base,
    ...content,
    ...offers,
    ...capabilitiesOf(base),
    ...samplingOf(base, content, offers),
    ...elicitationOf(base),
    ...tasksOf(base),
  };
}
export type Parts = ReturnType<typeof partsOf>;
