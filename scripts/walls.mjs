// The walls of the house as a lint rule: which room may import which. ARCHITECTURE.md shows the same table.
import { builtinModules } from 'node:module';
import { dirname, relative, resolve, sep } from 'node:path';

/** For each room of packages/jexo/src: the rooms it may import. Every room may import itself and errors.ts. */
export const rooms = {
  protocol: [],
  view: ['protocol'],
  engine: ['protocol'],
  stores: ['engine', 'protocol'],
  offers: ['stores', 'engine', 'protocol'],
  sources: ['offers', 'engine', 'protocol'],
  transports: ['stores', 'engine', 'protocol'],
  client: ['transports', 'offers', 'engine', 'protocol'],
  models: ['engine', 'protocol'],
  conversation: ['models', 'client', 'offers', 'engine', 'protocol'],
  bridge: ['client', 'transports', 'offers', 'engine', 'protocol'],
  hosts: ['conversation', 'models', 'protocol'],
  projects: ['sources', 'offers', 'protocol'],
  middleware: ['offers', 'engine', 'protocol'],
  auth: ['middleware', 'transports', 'offers', 'engine', 'protocol'],
  running: ['auth', 'plans', 'stores', 'middleware', 'transports', 'offers', 'engine', 'protocol'],
  plans: ['middleware', 'bridge', 'sources', 'offers', 'protocol'],
  targets: ['auth', 'plans', 'bridge', 'hosts', 'projects', 'client', 'sources', 'transports', 'offers', 'engine', 'protocol'],
  inspect: ['conversation', 'models', 'client', 'transports', 'offers', 'protocol'],
  pack: ['running', 'plans', 'targets', 'client', 'sources', 'transports', 'offers', 'protocol'],
  cli: [
    'auth',
    'running',
    'middleware',
    'plans',
    'pack',
    'conversation',
    'models',
    'inspect',
    'targets',
    'projects',
    'hosts',
    'client',
    'sources',
    'transports',
    'offers',
    'engine',
    'protocol',
    'view',
  ],
};
/** Rooms that also run in browsers. */
const portable = new Set(['protocol', 'view', 'engine', 'stores', 'offers', 'models', 'conversation', 'inspect']);
/** Parts of portable rooms that are for Node.js. */
const notPortable = /^stores\/redis\//;
/** Of the other rooms a portable one may take types only, or these files, which are portable themselves. */
const portableFiles = new Set(['client/connect-link.ts', 'transports/link.ts', 'transports/memory.ts']);
/** The files beside the rooms that a portable room may import. */
const portableBeside = new Set(['errors.ts']);
const builtins = new Set(builtinModules);

export const walls = {
  meta: {
    type: 'problem',
    schema: [],
    messages: {
      wall: '{{from}} may not import {{to}}: see ARCHITECTURE.md.',
      node: '{{from}} runs in browsers too, so it may not import {{to}}.',
      own: 'The page talks to the library only through its HTTP interface.',
    },
  },
  create(context) {
    const source = resolve(context.cwd, 'packages/jexo/src');
    const place = relative(source, context.filename);
    const isPage = !relative(resolve(context.cwd, 'apps/inspector'), context.filename).startsWith('..');
    const isForNode = notPortable.test(place.split(sep).join('/'));
    const room = place.startsWith('..') || !place.includes(sep) ? undefined : place.split(sep)[0];
    const isPortable = portable.has(room) && !isForNode;
    const check = (node, specifier, typeOnly) => {
      if (typeof specifier !== 'string') return;
      if (isPage) {
        if (specifier === 'jexo' || specifier.includes('packages/jexo')) context.report({ node, messageId: 'own' });
        return;
      }
      if (room === undefined) return;
      if (!specifier.startsWith('.')) {
        const name = specifier.replace(/^node:/, '').split('/')[0];
        if (isPortable && (specifier.startsWith('node:') || builtins.has(name)))
          context.report({ node, messageId: 'node', data: { from: room, to: specifier } });
        return;
      }
      const target = relative(source, resolve(dirname(context.filename), specifier))
        .replace(/\.js$/, '.ts')
        .split(sep)
        .join('/');
      if (!target.includes('/')) {
        if (isPortable && !typeOnly && !portableBeside.has(target))
          context.report({ node, messageId: 'node', data: { from: room, to: target } });
        return;
      }
      const to = target.split('/')[0];
      if (to === room) return;
      if (!rooms[room]?.includes(to)) context.report({ node, messageId: 'wall', data: { from: room, to } });
      else if (isPortable && !portable.has(to) && !typeOnly && !portableFiles.has(target))
        context.report({ node, messageId: 'node', data: { from: room, to: target } });
    };
    return {
      ImportDeclaration: (node) => check(node, node.source.value, node.importKind === 'type'),
      ExportNamedDeclaration: (node) => node.source && check(node, node.source.value, node.exportKind === 'type'),
      ExportAllDeclaration: (node) => check(node, node.source.value, node.exportKind === 'type'),
      ImportExpression: (node) => check(node, node.source.value, false),
    };
  },
};
