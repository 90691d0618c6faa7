import { identifier, number, oneOf, opt, shape, text } from '../check.js';
import type { Grammar } from '../grammar.js';
import { logLevels } from '../types.js';
import { uri, when, maybe } from './base.js';
import type { Parts } from './parts.js';

/** What each side tells the other, by method. */
export function notificationsOf(parts: Parts): Grammar['notifications'] {
  const { r2, r4, withMeta, task } = parts;
  const info = maybe(shape(withMeta));
  const shared = {
    'notifications/cancelled': shape({ ...withMeta, requestId: r4 ? opt(identifier) : identifier, reason: opt(text) }),
    'notifications/progress': shape({
      ...withMeta,
      progressToken: identifier,
      progress: number,
      total: opt(number),
      ...when(r2, { message: opt(text) }),
    }),
    ...(r4 && { 'notifications/tasks/status': task }),
  };

  return {
    client: { 'notifications/initialized': info, 'notifications/roots/list_changed': info, ...shared },
    server: {
      'notifications/tools/list_changed': info,
      'notifications/resources/list_changed': info,
      'notifications/prompts/list_changed': info,
      'notifications/resources/updated': shape({ ...withMeta, uri }),
      'notifications/message': shape({
        ...withMeta,
        level: oneOf(...logLevels),
        logger: opt(text),
        data: (value, path) => (value === undefined ? `${path} is missing` : undefined),
      }),
      ...(r4 && { 'notifications/elicitation/complete': shape({ ...withMeta, elicitationId: text }) }),
      ...shared,
    },
  };
}
