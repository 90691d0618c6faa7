import fc from 'fast-check';
import { parse as parseJsonc } from 'jsonc-parser';
import { parse as parseToml } from 'smol-toml';
import { parse as parseYaml } from 'yaml';
import { readHostText } from '../../src/hosts/edit-text.js';
import { entryName, findServers } from '../../src/hosts/host-entry.js';

const entry = { command: '/usr/bin/node', args: ['/a b/hives.ts'] };
const put = (text: string, file = 'hosts.json', path?: string[]) => {
  const found = readHostText(text, file);
  return found.set('hives', entry, path ?? found.path ?? ['toolServers']);
};
/** Our entry on lines of its own, as JSON.stringify writes it, at an indent. */
const lines = (indent: string, step: string, eol = '\n') =>
  JSON.stringify(entry, null, step)
    .split('\n')
    .join(eol + indent);

/** Each configuration with the exact bytes it must become. */
const table: readonly (readonly [what: string, file: string, before: string, after: string])[] = [
  ['empty', 'a.json', '', `{\n  "toolServers": {\n    "hives": ${lines('    ', '  ')}\n  }\n}\n`],
  ['blank', 'a.json', ' \n', `{\n  "toolServers": {\n    "hives": ${lines('    ', '  ')}\n  }\n}\n`],
  ['an empty object', 'a.json', '{}', `{\n  "toolServers": ${JSON.stringify({ hives: entry }, null, 2).split('\n').join('\n  ')}\n}`],
  [
    'an empty object, BOM',
    'a.json',
    '\uFEFF{}',
    `\uFEFF{\n  "toolServers": ${JSON.stringify({ hives: entry }, null, 2).split('\n').join('\n  ')}\n}`,
  ],
  ['an empty map', 'a.json', '{\n  "toolServers": {}\n}\n', `{\n  "toolServers": {\n    "hives": ${lines('    ', '  ')}\n  }\n}\n`],
  [
    'an empty map, four blanks',
    'a.json',
    '{\n    "toolServers": {}\n}',
    `{\n    "toolServers": {\n        "hives": ${lines('        ', '    ')}\n    }\n}`,
  ],
  ['an empty map, tabs', 'a.json', '{\n\t"toolServers": {}\n}', `{\n\t"toolServers": {\n\t\t"hives": ${lines('\t\t', '\t')}\n\t}\n}`],
  [
    'an empty map, CRLF',
    'a.json',
    '{\r\n  "servers": {}\r\n}\r\n',
    `{\r\n  "servers": {\r\n    "hives": ${lines('    ', '  ', '\r\n')}\r\n  }\r\n}\r\n`,
  ],
  [
    'another server',
    'a.json',
    '{\n  "toolServers": {\n    "a": { "command": "x" }\n  }\n}\n',
    `{\n  "toolServers": {\n    "a": { "command": "x" },\n    "hives": ${lines('    ', '  ')}\n  }\n}\n`,
  ],
  [
    'another server, CRLF',
    'a.json',
    '{\r\n  "toolServers": {\r\n    "a": { "command": "x" }\r\n  }\r\n}',
    `{\r\n  "toolServers": {\r\n    "a": { "command": "x" },\r\n    "hives": ${lines('    ', '  ', '\r\n')}\r\n  }\r\n}`,
  ],
  [
    'another server, a comma behind it',
    'a.json',
    '{\n  "toolServers": {\n    "a": { "command": "x" },\n  },\n}\n',
    `{\n  "toolServers": {\n    "a": { "command": "x" },\n    "hives": ${lines('    ', '  ')},\n  },\n}\n`,
  ],
  [
    'a comment behind it',
    'a.json',
    '{\n  "toolServers": {\n    "a": { "command": "x" } // mine\n  }\n}\n',
    `{\n  "toolServers": {\n    "a": { "command": "x" },\n    "hives": ${lines('    ', '  ')} // mine\n  }\n}\n`,
  ],
  [
    'a comment and a comma',
    'a.jsonc',
    '{\n  // servers\n  "toolServers": {\n    "a": { "command": "x" } /* b */,\n  }\n}\n',
    `{\n  // servers\n  "toolServers": {\n    "a": { "command": "x" } /* b */,\n    "hives": ${lines('    ', '  ')},\n  }\n}\n`,
  ],
  [
    'a comment alone',
    'a.json',
    '{\n  "toolServers": {\n    // none yet\n  }\n}\n',
    `{\n  "toolServers": {\n    "hives": ${lines('    ', '  ')}\n  \n    // none yet\n  }\n}\n`,
  ],
  [
    'all on one line',
    'a.json',
    '{"toolServers":{"a":{"command":"x"}}}',
    `{"toolServers":{"a":{"command":"x"},\n  "hives": ${lines('  ', '  ')}}}`,
  ],
  [
    'other settings',
    'a.json',
    '{\n  "theme": "dark",\n  "list": [1, 2]\n}',
    `{\n  "theme": "dark",\n  "list": [1, 2],\n  "toolServers": ${JSON.stringify({ hives: entry }, null, 2).split('\n').join('\n  ')}\n}`,
  ],
  [
    'another key',
    'a.json',
    '{\n  "servers": {\n    "a": { "url": "http://a" }\n  }\n}',
    `{\n  "servers": {\n    "a": { "url": "http://a" },\n    "hives": ${lines('    ', '  ')}\n  }\n}`,
  ],
  [
    'one level down',
    'a.json',
    '{\n  "mcp": {\n    "servers": {\n      "a": { "command": "x" }\n    }\n  }\n}',
    `{\n  "mcp": {\n    "servers": {\n      "a": { "command": "x" },\n      "hives": ${lines('      ', '  ')}\n    }\n  }\n}`,
  ],
  [
    'one level down, empty',
    'a.json',
    '{\n  "mcp": {\n    "servers": {}\n  }\n}',
    `{\n  "mcp": {\n    "servers": {\n      "hives": ${lines('      ', '  ')}\n    }\n  }\n}`,
  ],
  [
    'a key nobody knows',
    'a.json',
    '{\n  "helpers": {\n    "a": { "command": "x" }\n  }\n}',
    `{\n  "helpers": {\n    "a": { "command": "x" },\n    "hives": ${lines('    ', '  ')}\n  }\n}`,
  ],
  [
    'unicode and spaces',
    'a.json',
    '{\n  "Größe": "ä ö",\n  "toolServers": {\n    "bién": { "command": "C:\\\\a b\\\\x.exe" }\n  }\n}',
    `{\n  "Größe": "ä ö",\n  "toolServers": {\n    "bién": { "command": "C:\\\\a b\\\\x.exe" },\n    "hives": ${lines('    ', '  ')}\n  }\n}`,
  ],
  [
    'the same name',
    'a.json',
    '{\n  "toolServers": {\n    "hives": { "command": "old" }, // keep\n    "b": { "command": "y" }\n  }\n}',
    `{\n  "toolServers": {\n    "hives": ${lines('    ', '  ')}, // keep\n    "b": { "command": "y" }\n  }\n}`,
  ],
  ['no line end', 'a.json', '{ "toolServers": { } }', `{ "toolServers": {\n  "hives": ${lines('  ', '  ')}\n } }`],
  ['YAML, none', 'a.yaml', '', `toolServers:\n  hives:\n    command: /usr/bin/node\n    args:\n      - /a b/hives.ts\n`],
  [
    'YAML, other settings',
    'a.yaml',
    'theme: dark # yes\n',
    `theme: dark # yes\ntoolServers:\n  hives:\n    command: /usr/bin/node\n    args:\n      - /a b/hives.ts\n`,
  ],
  [
    'YAML, another server',
    'a.yaml',
    'servers:\n    a: # one\n        command: x\n\nafter: 1\n',
    `servers:\n    a: # one\n        command: x\n    hives:\n      command: /usr/bin/node\n      args:\n        - /a b/hives.ts\n\nafter: 1\n`,
  ],
  [
    'YAML, no line end',
    'a.yml',
    'servers:\n  a:\n    command: x',
    `servers:\n  a:\n    command: x\n  hives:\n    command: /usr/bin/node\n    args:\n      - /a b/hives.ts\n`,
  ],
  [
    'YAML, an empty map',
    'a.yml',
    'toolServers: {}\nb: 1\n',
    `toolServers:\n  hives:\n    command: /usr/bin/node\n    args:\n      - /a b/hives.ts\nb: 1\n`,
  ],
  [
    'YAML, the same name',
    'a.yml',
    'servers:\n  hives:\n    command: old\n  b: { command: y }\n',
    `servers:\n  hives:\n    command: /usr/bin/node\n    args:\n      - /a b/hives.ts\n  b: { command: y }\n`,
  ],
  [
    'YAML, CRLF',
    'a.yml',
    'servers:\r\n  a:\r\n    command: x\r\n',
    `servers:\r\n  a:\r\n    command: x\r\n  hives:\r\n    command: /usr/bin/node\r\n    args:\r\n      - /a b/hives.ts\r\n`,
  ],
  ['TOML, none', 'a.toml', '', `[toolServers.hives]\ncommand = "/usr/bin/node"\nargs = [ "/a b/hives.ts" ]\n`],
  [
    'TOML, other settings',
    'a.toml',
    'theme = "dark" # yes\n',
    `theme = "dark" # yes\n\n[toolServers.hives]\ncommand = "/usr/bin/node"\nargs = [ "/a b/hives.ts" ]\n`,
  ],
  [
    'TOML, another server',
    'a.toml',
    '[mcp_servers.a]\ncommand = "x"\n',
    `[mcp_servers.a]\ncommand = "x"\n\n[mcp_servers.hives]\ncommand = "/usr/bin/node"\nargs = [ "/a b/hives.ts" ]\n`,
  ],
  [
    'TOML, no line end',
    'a.toml',
    '[servers.a]\ncommand = "x"',
    `[servers.a]\ncommand = "x"\n\n[servers.hives]\ncommand = "/usr/bin/node"\nargs = [ "/a b/hives.ts" ]\n`,
  ],
  [
    'TOML, the same name',
    'a.toml',
    '[servers.hives]\ncommand = "old"\n[servers.hives.env]\nA = "1"\n\n[servers.b]\ncommand = "y"\n',
    `[servers.hives]\ncommand = "/usr/bin/node"\nargs = [ "/a b/hives.ts" ]\n\n[servers.b]\ncommand = "y"\n`,
  ],
];

test.each(table)('%s (%s)', (_what, file, before, after) => {
  const made = put(before, file);
  expect(made).toBe(after);
  const read = /\.toml$/.test(file)
    ? parseToml(made)
    : /\.ya?ml$/.test(file)
      ? (parseYaml(made) as object)
      : (parseJsonc(made.replace(/^\uFEFF/, '')) as object);
  const path = findServers(read)!;
  expect(path.reduce<unknown>((value, key) => (value as Record<string, unknown>)[key], read)).toMatchObject({ hives: entry });
});

test.each([
  ['a.json', '{"a": }', /a\.json:1: this is not JSON/],
  ['a.json', '{\n "a": 1\n "b": 2}', /a\.json:3: /],
  ['a.json', '[1]', /a configuration is an object/],
  ['a.json', 'hello', /not JSON/],
  ['a.yaml', 'a: [1', /a\.yaml:\d/],
  ['a.toml', 'a = ', /a\.toml:1/],
])('%s that cannot be read: %s', (file, text, says) => {
  expect(() => readHostText(text, file)).toThrow(expect.objectContaining({ code: 'JEXO_HOST_FILE', message: expect.stringMatching(says) }));
});

test('the map of servers is found, and nothing else is taken for it', () => {
  expect(findServers({ info: { contact: { url: 'http://a' } }, a: { b: { url: 'http://b' } } })).toBeUndefined();
  expect(findServers({ tools: { x: { command: 'x' } }, mcp: { servers: {} } })).toEqual(['mcp', 'servers']);
  expect(findServers({ tools: { x: { command: 'x' } } })).toEqual(['tools']);
  expect(findServers({ servers: [], other: { toolServers: { a: { url: 'http://a' } } } })).toEqual(['other', 'toolServers']);
});

describe('for any configuration', () => {
  const key = fc.stringMatching(/^[A-Za-z][A-Za-z0-9 ._é-]{0,6}$/).filter((text) => text !== 'hives');
  const server = fc.oneof(
    fc.record({ command: fc.string() }),
    fc.record({ url: fc.webUrl() }),
    fc.record({ command: fc.string(), args: fc.array(fc.string()), env: fc.dictionary(key, fc.string()) }),
  );
  const config = fc.record({
    before: fc.dictionary(
      key,
      fc.jsonValue({ maxDepth: 1 }).map((each) => JSON.parse(JSON.stringify(each)) as unknown),
      { maxKeys: 2 },
    ),
    map: fc.constantFrom('toolServers', 'servers', 'tool_servers'),
    servers: fc.dictionary(key, server, { minKeys: 1, maxKeys: 3 }),
    after: fc.dictionary(key, fc.string(), { maxKeys: 2 }),
  });
  const space = fc.constantFrom('', ' ', '\n', '\t', '\r\n', '  \n', ' // note\n', '/* x */');

  /** JSON with blanks, comments and commas wherever they may stand. */
  const spread = (value: unknown, spaces: string[], trailing: boolean): string => {
    let at = 0;
    const next = () => spaces[at++ % spaces.length]!;
    const write = (each: unknown): string => {
      if (typeof each !== 'object' || each === null) return JSON.stringify(each);
      const items = Array.isArray(each)
        ? each.map(write)
        : Object.entries(each).map(([name, item]) => `${JSON.stringify(name)}${next()}:${next()}${write(item)}`);
      const [open, close] = Array.isArray(each) ? '[]' : '{}';
      return `${open}${items.map((item) => `${next()}${item}${next()}`).join(',')}${trailing && items.length > 0 ? ',' : ''}${next()}${close}`;
    };
    return write(value);
  };

  test('JSON: everything outside the entry stays, and taking it out again gives the original bytes', () => {
    fc.assert(
      fc.property(
        config,
        fc.array(space, { minLength: 1, maxLength: 5 }),
        fc.boolean(),
        ({ before, map, servers, after }, spaces, trailing) => {
          const value = { ...before, [map]: servers, ...after };
          const text = spread(value, spaces, trailing);
          fc.pre(findServers(value)?.join('.') === map);
          const made = put(text);
          const start = [...text].findIndex((sign, index) => sign !== [...made][index]);
          const added = made.length - text.length;
          const from = start < 0 ? text.length : [...text].slice(0, start).join('').length;
          expect(made.slice(0, from) + made.slice(from + added)).toBe(text);
          // Both are read the same way: the parser drops a field that is called __proto__.
          const wanted = JSON.stringify({ ...value, [map]: { ...servers, hives: entry } });
          expect(parseJsonc(made, [], { allowTrailingComma: true })).toEqual(parseJsonc(wanted));
          const again = readHostText(made, 'hosts.json');
          expect(again.remove('hives', [map])).toBe(text);
        },
      ),
      {
        numRuns: 400,
        examples: [
          [
            {
              before: { A: JSON.parse('{"__proto__":""}') as object },
              map: 'toolServers',
              servers: { a: { command: '', args: [], env: {} } },
              after: {},
            },
            [''],
            false,
          ],
        ],
      },
    );
  });

  test('JSON: any one of the servers can be taken out, and the others stay', () => {
    fc.assert(
      fc.property(
        config,
        fc.array(space, { minLength: 1, maxLength: 5 }),
        fc.boolean(),
        fc.nat(),
        ({ before, map, servers, after }, spaces, trailing, which) => {
          const value = { ...before, [map]: servers, ...after };
          fc.pre(findServers(value)?.join('.') === map);
          const names = Object.keys(servers);
          const name = names[which % names.length]!;
          const left = readHostText(spread(value, spaces, trailing), 'hosts.json').remove(name, [map]);
          const { [name]: _, ...others } = servers;
          expect(parseJsonc(left, [], { allowTrailingComma: true })).toEqual(parseJsonc(JSON.stringify({ ...value, [map]: others })));
        },
      ),
      { numRuns: 300 },
    );
  });

  test('YAML and TOML: taking it out again gives the original bytes', () => {
    fc.assert(
      fc.property(
        fc.dictionary(fc.stringMatching(/^[a-z]{1,5}$/), fc.stringMatching(/^[a-z ]{0,6}$/), { minKeys: 1, maxKeys: 3 }),
        fc.constantFrom('\n', '\r\n'),
        (names, eol) => {
          const yaml = [
            '# mine',
            'servers:',
            ...Object.entries(names).flatMap(([name, text]) => [`  ${name}:`, `    command: ${JSON.stringify(text)} # x`]),
            '',
          ].join(eol);
          expect(readHostText(put(yaml, 'a.yaml'), 'a.yaml').remove('hives', ['servers'])).toBe(yaml);
          const toml = [
            '# mine',
            ...Object.entries(names).flatMap(([name, text]) => ['', `[servers.${name}]`, `command = ${JSON.stringify(text)} # x`]),
            '',
          ].join(eol);
          expect(readHostText(put(toml, 'a.toml'), 'a.toml').remove('hives', ['servers'])).toBe(toml);
        },
      ),
    );
  });

  test('a name is one that hosts take', () => {
    fc.assert(fc.property(fc.string(), (text) => expect(entryName(text)).toMatch(/^[A-Za-z][A-Za-z0-9_]{0,54}$/)));
    expect([entryName('alderwick-apiary 2'), entryName('3d')]).toEqual(['alderwick_apiary_2', 'server_3d']);
  });
});
