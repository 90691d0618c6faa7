import fc from 'fast-check';
import { parseTemplate } from '../../src/protocol/uri-template.js';

/** The values of RFC 6570, section 3.2. */
const values = {
  count: ['one', 'two', 'three'],
  dom: ['example', 'com'],
  dub: 'me/too',
  hello: 'Hello World!',
  half: '50%',
  var: 'value',
  who: 'fred',
  base: 'http://example.com/home/',
  path: '/foo/bar',
  list: ['red', 'green', 'blue'],
  keys: { semi: ';', dot: '.', comma: ',' },
  v: '6',
  x: '1024',
  y: '768',
  empty: '',
  empty_keys: {},
  undef: null,
};

/** The example tables of RFC 6570, sections 3.2.1 to 3.2.9. */
test.each([
  ['{count}', 'one,two,three'],
  ['{count*}', 'one,two,three'],
  ['{/count}', '/one,two,three'],
  ['{/count*}', '/one/two/three'],
  ['{;count}', ';count=one,two,three'],
  ['{;count*}', ';count=one;count=two;count=three'],
  ['{?count}', '?count=one,two,three'],
  ['{?count*}', '?count=one&count=two&count=three'],
  ['{&count*}', '&count=one&count=two&count=three'],
  ['{var}', 'value'],
  ['{hello}', 'Hello%20World%21'],
  ['{half}', '50%25'],
  ['O{empty}X', 'OX'],
  ['O{undef}X', 'OX'],
  ['{x,y}', '1024,768'],
  ['{x,hello,y}', '1024,Hello%20World%21,768'],
  ['?{x,empty}', '?1024,'],
  ['?{x,undef}', '?1024'],
  ['?{undef,y}', '?768'],
  ['{var:3}', 'val'],
  ['{var:30}', 'value'],
  ['{list}', 'red,green,blue'],
  ['{list*}', 'red,green,blue'],
  ['{keys}', 'semi,%3B,dot,.,comma,%2C'],
  ['{keys*}', 'semi=%3B,dot=.,comma=%2C'],
  ['{+var}', 'value'],
  ['{+hello}', 'Hello%20World!'],
  ['{+half}', '50%25'],
  ['{base}index', 'http%3A%2F%2Fexample.com%2Fhome%2Findex'],
  ['{+base}index', 'http://example.com/home/index'],
  ['O{+empty}X', 'OX'],
  ['O{+undef}X', 'OX'],
  ['{+path}/here', '/foo/bar/here'],
  ['here?ref={+path}', 'here?ref=/foo/bar'],
  ['up{+path}{var}/here', 'up/foo/barvalue/here'],
  ['{+x,hello,y}', '1024,Hello%20World!,768'],
  ['{+path,x}/here', '/foo/bar,1024/here'],
  ['{+path:6}/here', '/foo/b/here'],
  ['{+list}', 'red,green,blue'],
  ['{+keys}', 'semi,;,dot,.,comma,,'],
  ['{+keys*}', 'semi=;,dot=.,comma=,'],
  ['{#var}', '#value'],
  ['{#hello}', '#Hello%20World!'],
  ['{#half}', '#50%25'],
  ['foo{#empty}', 'foo#'],
  ['foo{#undef}', 'foo'],
  ['{#x,hello,y}', '#1024,Hello%20World!,768'],
  ['{#path,x}/here', '#/foo/bar,1024/here'],
  ['{#path:6}/here', '#/foo/b/here'],
  ['{#list*}', '#red,green,blue'],
  ['{#keys}', '#semi,;,dot,.,comma,,'],
  ['{.who}', '.fred'],
  ['{.who,who}', '.fred.fred'],
  ['{.half,who}', '.50%25.fred'],
  ['www{.dom*}', 'www.example.com'],
  ['X{.var}', 'X.value'],
  ['X{.empty}', 'X.'],
  ['X{.undef}', 'X'],
  ['X{.var:3}', 'X.val'],
  ['X{.list}', 'X.red,green,blue'],
  ['X{.list*}', 'X.red.green.blue'],
  ['X{.keys}', 'X.semi,%3B,dot,.,comma,%2C'],
  ['X{.keys*}', 'X.semi=%3B.dot=..comma=%2C'],
  ['X{.empty_keys}', 'X'],
  ['{/who}', '/fred'],
  ['{/who,who}', '/fred/fred'],
  ['{/half,who}', '/50%25/fred'],
  ['{/who,dub}', '/fred/me%2Ftoo'],
  ['{/var}', '/value'],
  ['{/var,empty}', '/value/'],
  ['{/var,undef}', '/value'],
  ['{/var,x}/here', '/value/1024/here'],
  ['{/var:1,var}', '/v/value'],
  ['{/list}', '/red,green,blue'],
  ['{/list*}', '/red/green/blue'],
  ['{/list*,path:4}', '/red/green/blue/%2Ffoo'],
  ['{/keys}', '/semi,%3B,dot,.,comma,%2C'],
  ['{/keys*}', '/semi=%3B/dot=./comma=%2C'],
  ['{;who}', ';who=fred'],
  ['{;half}', ';half=50%25'],
  ['{;empty}', ';empty'],
  ['{;v,empty,who}', ';v=6;empty;who=fred'],
  ['{;v,bar,who}', ';v=6;who=fred'],
  ['{;x,y}', ';x=1024;y=768'],
  ['{;x,y,empty}', ';x=1024;y=768;empty'],
  ['{;hello:5}', ';hello=Hello'],
  ['{;list}', ';list=red,green,blue'],
  ['{;list*}', ';list=red;list=green;list=blue'],
  ['{;keys}', ';keys=semi,%3B,dot,.,comma,%2C'],
  ['{;keys*}', ';semi=%3B;dot=.;comma=%2C'],
  ['{?who}', '?who=fred'],
  ['{?half}', '?half=50%25'],
  ['{?x,y}', '?x=1024&y=768'],
  ['{?x,y,empty}', '?x=1024&y=768&empty='],
  ['{?x,y,undef}', '?x=1024&y=768'],
  ['{?var:3}', '?var=val'],
  ['{?list}', '?list=red,green,blue'],
  ['{?list*}', '?list=red&list=green&list=blue'],
  ['{?keys}', '?keys=semi,%3B,dot,.,comma,%2C'],
  ['{?keys*}', '?semi=%3B&dot=.&comma=%2C'],
  ['{&who}', '&who=fred'],
  ['{&half}', '&half=50%25'],
  ['?fixed=yes{&x}', '?fixed=yes&x=1024'],
  ['{&x,y,empty}', '&x=1024&y=768&empty='],
  ['{&var:3}', '&var=val'],
  ['{&list}', '&list=red,green,blue'],
  ['{&keys*}', '&semi=%3B&dot=.&comma=%2C'],
])('RFC 6570: %s expands to %s', (template, expected) => {
  expect(parseTemplate(template).expand(values)).toBe(expected);
});

test.each([
  ['hive://{apiary}/{hive}', 'hive://MR/03', { apiary: 'MR', hive: '03' }],
  ['hive://{apiary}/{hive}', 'hive://MR/03/more', undefined],
  ['hive://{apiary}/{hive}', 'hive://M%20R/0%2F3', { apiary: 'M R', hive: '0/3' }],
  ['file:///{+path}', 'file:///a/b/c.md', { path: 'a/b/c.md' }],
  ['lots://{year}{/rest*}', 'lots://2026/a/b', { year: '2026', rest: ['a', 'b'] }],
  ['lots://{year}{?line,buyer}', 'lots://2026?buyer=b&line=A', { year: '2026', line: 'A', buyer: 'b' }],
  ['lots://{year}{?line}', 'lots://2026', { year: '2026' }],
  ['lots://{year}{?tag*}', 'lots://2026?tag=a&tag=b', { year: '2026', tag: ['a', 'b'] }],
  ['book://{page}{#part}', 'book://3#two', { page: '3', part: 'two' }],
  ['x{.kind}', 'x.md', { kind: 'md' }],
  ['plain://page', 'plain://page', {}],
  ['plain://page', 'plain://other', undefined],
  ['p://{__proto__}', 'p://x', Object.defineProperty({}, '__proto__', { value: 'x', enumerable: true })],
])('%s matches %s as %j', (template, uri, expected) => {
  expect(parseTemplate(template).match(uri)).toEqual(expected);
});

test.each(['{', '}', 'a{b', '{}', '{a b}', '{a:0}', '{a:12345}', '{!a}', '{a,}'])('%s is refused', (template) => {
  expect(() => parseTemplate(template)).toThrow('The template');
});

test('what a random template expands to, it matches with the same values', () => {
  const name = fc.stringMatching(/^[a-z][a-z0-9_]{0,6}$/);
  const value = fc.string({ unit: 'grapheme', minLength: 1, maxLength: 12 }).filter((text) => text.isWellFormed());
  const operator = fc.constantFrom('', '/', '.', '?', ';', '#');
  fc.assert(
    fc.property(
      fc.uniqueArray(name, { minLength: 1, maxLength: 4 }),
      operator,
      fc.array(value, { minLength: 4, maxLength: 4 }),
      (names, last, texts) => {
        const [final, ...before] = names as [string, ...string[]];
        const template = parseTemplate(`hive://x/${before.map((each) => `{${each}}/`).join('')}y{${last}${final}}`);
        const given = Object.fromEntries(names.map((each, index) => [each, texts[index]!]));
        // An unreserved dot belongs to the value and to the form alike: the form {.x} cannot tell them apart.
        if (last === '.' && given[final]!.includes('.')) return;
        const uri = template.expand(given);
        if (last === '#') expect(template.expand(template.match(uri)!)).toBe(uri);
        else expect(template.match(uri)).toEqual(given);
      },
    ),
  );
});
