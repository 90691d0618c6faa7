import type { LoadCommand } from '../command.js';

/** The commands by their names, in the order in which the help shows them. */
export const commands: Readonly<Record<string, LoadCommand>> = {
  new: () => import('./new.js'),
  serve: () => import('./serve.js'),
  work: () => import('./work.js'),
  list: () => import('./list.js'),
  call: () => import('./call.js'),
  read: () => import('./read.js'),
  prompt: () => import('./prompt.js'),
  chat: () => import('./chat.js'),
  check: () => import('./check.js'),
  replay: () => import('./replay.js'),
  rehearse: () => import('./rehearse.js'),
  inspect: () => import('./inspect.js'),
  register: () => import('./register.js'),
  'sign-in': () => import('./sign-in.js'),
  'sign-out': () => import('./sign-out.js'),
  who: () => import('./who.js'),
  keys: () => import('./keys.js'),
  pack: () => import('./pack.js'),
  completion: () => import('./completion.js'),
};
