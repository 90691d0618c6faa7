#!/usr/bin/env node
import { Command, CommanderError, Option } from 'commander';
import { catalogue, isJexoError, JexoError, messageOf } from '../errors.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import {
  choiceOf,
  collect,
  header,
  json,
  list,
  modelName,
  modelUrl,
  number,
  port,
  standIn,
  wireLog,
  withChoice,
  withClientOptions,
  withKeeping,
} from './options.js';
import { flushed, note, onErr, print, printJson, symbols } from './terminal.js';

const version = process.env.JEXO_VERSION ?? '0.0.0';

/** What stands behind `--` is a command that starts a server; commander never sees it. */
const all = process.argv.slice(2);
const dashes = all.indexOf('--');
const command = dashes < 0 ? undefined : all.slice(dashes + 1);
const words = dashes < 0 ? all : all.slice(0, dashes);

const targets = `
Targets:
  hives.ts                    a module: its server, or its exported functions as tools
  some-package                an installed package: its functions as tools, read from its types
  api.openapi.yaml            an OpenAPI document, or its URL: its operations as tools
  http://127.0.0.1:4300/mcp   a running server
  -- node server.mjs          a command that starts a server`;

const program = new Command('jexo')
  .description(
    'Turn functions and REST APIs you already have into a Model Context Protocol server: serve it, call it, inspect it, pack it.',
  )
  .version(version, '--version', 'print the version')
  .helpCommand(false)
  .showSuggestionAfterError(true)
  .exitOverride()
  .configureOutput({ writeErr: () => undefined, outputError: () => undefined })
  .addHelpText(
    'after',
    `${targets}

Examples:
  jexo list hives.ts
  jexo call hives.ts mix_syrup colonies=12 season=autumn
  jexo serve hives.ts --http 4300
  jexo inspect hives.ts
  jexo pack hives.ts --as bundle --out dist/`,
  );

program
  .command('new')
  .description('write a new project: a server, a test, a call sheet, all that a good one has')
  .argument('[folder]')
  .option('--from <kind and source...>', 'functions, demo, a document, curl <line> or har <file>; at a terminal it is asked for')
  .option('--name <name>', 'the name of the project (default: that of the folder)')
  .addOption(json())
  .addHelpText(
    'after',
    `
Examples:
  jexo new hives                                             from plain functions
  jexo new registry --from registry.openapi.yaml             from an OpenAPI document, or its URL
  jexo new registry --from curl 'curl https://… -H …'        from a request that works; secrets go into .env
  jexo new registry --from har session.har                   from what a browser recorded

Nothing is overwritten: the folder must be empty, or not there yet.`,
  )
  .action(async (folder: string | undefined, options) => (await import('./new.js')).makeNew(folder, options));

withChoice(program.command('serve'))
  .description('serve modules, packages or documents, over stdio or HTTP')
  .argument('[targets...]', 'several are served as one server')
  .addOption(new Option('--http [port]', 'serve over HTTP; without a port, any free one').argParser(port('--http')).preset('0'))
  .addOption(new Option('--host <address>', 'address to listen at').default('127.0.0.1'))
  .addOption(new Option('--path <path>', 'path of the endpoint').default('/mcp'))
  .addOption(new Option('--allow-origin <origin>', 'a web page that may call, as https://desk.example; may be repeated').argParser(collect))
  .addOption(new Option('--allow-host <name>', 'a host name this server answers for; may be repeated').argParser(collect))
  .option('--open', 'let anybody call who reaches an address other than this machine’s own')
  .option('--name <name>', 'the name the server gives itself')
  .option('--watch', 'read the modules again when they are saved; connected clients are told')
  .option('--no-page', 'over HTTP, serve no page at the root that shows what is offered')
  .option('--older', 'over HTTP, serve clients of 2024-11-05 too, at /sse')
  .addOption(wireLog())
  .addOption(json())
  .addHelpText(
    'after',
    `
Examples:
  jexo serve hives.ts                          over stdio, for a host application that starts it
  jexo serve hives.ts --http 4300              over HTTP, at http://127.0.0.1:4300/mcp
  jexo serve hives.ts weather.ts --name farm   two modules as one server
  jexo serve hives.ts --watch                  read again whenever it is saved
  jexo serve hives.ts --only 'mix_*' --prefix farm_
  jexo serve some-package --only 'mean,median'
  jexo serve api.openapi.yaml --only 'GET *'   a REST API; its secrets are read from the environment

With --json, one line of JSON on stderr says where it is served.`,
  )
  .action(async (found: string[], options) => (await import('./serve.js')).serve(found, command, { ...options, ...choiceOf(options) }));

withClientOptions(withChoice(program.command('list')))
  .description('show what a server offers')
  .argument('[target]')
  .addHelpText(
    'after',
    `${targets}\n\nExamples:\n  jexo list hives.ts\n  jexo list hives.ts --json | jq '.tools[].name'\n  jexo list -- node server.mjs`,
  )
  .action(async (target: string | undefined, options) =>
    (await import('./list.js')).list(target === undefined ? [] : [target], command, { ...options, ...choiceOf(options) }),
  );

withClientOptions(withKeeping(withChoice(program.command('call'))))
  .description('call a tool')
  .argument('[target]')
  .argument('[tool]')
  .argument('[key=value...]', 'the input, each value typed by the tool’s schema')
  .option('--input <json>', 'the input as one JSON object; @file reads it from a file, - from stdin')
  .option('--unchecked', 'send the input as it is, without checking it by the tool’s schema first')
  .addOption(standIn())
  .addHelpText(
    'after',
    `${targets}

Examples:
  jexo call hives.ts mix_syrup colonies=12 season=autumn
  jexo call hives.ts mix_syrup --input '{"colonies": 12}' --json
  jexo call http://127.0.0.1:4300/mcp mites_per_100 mites=9
  jexo call mites_per_100 mites=9 -- node server.mjs
  jexo call api.ts book place.apiary=MR tags=calm tags=strong

At a terminal, a missing input is asked for, and so is what the server asks meanwhile. Ctrl-C cancels the call on the server.
Exit codes: 0 answered, 1 the tool failed, 2 wrong use or input, 3 the server could not be reached.`,
  )
  .action(async (target: string | undefined, tool: string | undefined, pairs: string[], options) =>
    (await import('./call.js')).call(
      [target, tool, ...pairs].filter((word) => word !== undefined),
      command,
      { ...options, ...choiceOf(options) },
    ),
  );

withClientOptions(withKeeping(withChoice(program.command('read'))))
  .description('read a resource')
  .argument('[target]')
  .argument('[resource]', 'a URI, or the name of a resource or a template')
  .argument('[variable=value...]', 'the variables of a template')
  .option('--out <file>', 'write the contents into a file')
  .option('--watch', 'read it again whenever it changes, until Ctrl-C')
  .addHelpText(
    'after',
    `${targets}

Examples:
  jexo read apiary.ts hive://MR-03
  jexo read apiary.ts hive hive=MR-03 --watch
  jexo read apiary.ts alderwick://mark.png --out mark.png`,
  )
  .action(async (target: string | undefined, resource: string | undefined, pairs: string[], options) =>
    (await import('./read.js')).read(
      [target, resource, ...pairs].filter((word) => word !== undefined),
      command,
      { ...options, ...choiceOf(options) },
    ),
  );

withClientOptions(withKeeping(withChoice(program.command('prompt'))))
  .description('render a prompt')
  .argument('[target]')
  .argument('[prompt]')
  .argument('[argument=value...]')
  .addHelpText(
    'after',
    `${targets}\n\nExamples:\n  jexo prompt apiary.ts inspection_summary hive=MR-03\n  jexo prompt apiary.ts lot_label lot=H-204 language=fr --json`,
  )
  .action(async (target: string | undefined, name: string | undefined, pairs: string[], options) =>
    (await import('./prompt.js')).prompt(
      [target, name, ...pairs].filter((word) => word !== undefined),
      command,
      { ...options, ...choiceOf(options) },
    ),
  );

withChoice(program.command('check'))
  .description('judge what a server offers: what a model will stumble over, what hosts refuse, what breaks the protocol')
  .argument('[target]')
  .addOption(
    new Option('--fail-on <severity>', 'exit with 1 when something at least this grave is found')
      .choices(['note', 'warning', 'error', 'never'])
      .default('error'),
  )
  .addOption(
    new Option('--silence <rule=reason>', 'put a rule aside, or rule:name=reason for one offer; may be repeated').argParser(collect),
  )
  .option('--sarif', 'print SARIF to stdout, for code hosting')
  .addOption(header().argParser(collect))
  .addOption(wireLog())
  .addOption(json())
  .addHelpText(
    'after',
    `${targets}

Examples:
  jexo check hives.ts
  jexo check hives.ts --fail-on warning                 in a pre-commit hook
  jexo check https://hives.example/mcp                  somebody else's server: is it safe to use?
  jexo check hives.ts --silence 'no-output-schema:write_summary=its answer is prose'
  jexo check hives.ts --sarif > findings.sarif

Exit codes: 0 nothing so grave, 1 found, 2 wrong use, 3 the server could not be reached.`,
  )
  .action(async (target: string | undefined, options) =>
    (await import('./check.js')).check(target === undefined ? [] : [target], command, { ...options, ...choiceOf(options) }),
  );

withClientOptions(program.command('replay'))
  .description('make the calls of a call sheet again, and say which answers are not what they must be')
  .argument('[sheets and targets...]', 'call sheets (*.calls.yaml) or wire logs (*.jsonl); with targets, in place of those the sheets name')
  .addOption(new Option('--only <names>', 'only these calls, and what they need of earlier ones; patterns as lots*').argParser(list))
  .option('--update', 'write what came into the sheet, in place of what was wanted')
  .option('--junit <file>', 'write a report for continuous integration')
  .addOption(
    new Option('--parallel <n>', 'servers at work at once (default: as many as there are processors)').argParser(
      number('--parallel', 1, 256),
    ),
  )
  .option('--write <sheet>', 'make a call sheet of a wire log, and call nothing')
  .addHelpText(
    'after',
    `
Examples:
  jexo replay apiary.calls.yaml                          on the server the sheet names
  jexo replay apiary.calls.yaml http://127.0.0.1:4300/mcp
  jexo replay *.calls.yaml --junit report.xml            in continuous integration
  jexo replay apiary.calls.yaml --only 'syrup*' --update
  jexo replay session.jsonl --write session.calls.yaml   from a wire log

A call is kept on a sheet by: jexo call hives.ts mix_syrup colonies=12 --keep hives.calls.yaml
Exit codes: 0 all as kept, 1 some differ, 2 a sheet cannot be read, 3 a server could not be reached.`,
  )
  .action(async (found: string[], options) => (await import('./replay.js')).replay(found, command, options));

withClientOptions(withChoice(program.command('rehearse')))
  .description('see which tool a request in plain words leads to, and why; or try all requests of a sheet')
  .argument('[target]')
  .argument('[sheet or request...]', 'a request sheet (*.requests.yaml), or a request in plain words')
  .option('--run', 'call what was chosen, step by step, after you agree')
  .option('--yes', 'agree to every step beforehand')
  .addOption(
    new Option('--rounds <n>', 'with --run: rounds of calls the model may make').default(10).argParser(number('--rounds', 1, 1000)),
  )
  .addOption(modelUrl())
  .addOption(modelName())
  .addOption(
    new Option('--fail-under <percent>', 'exit with 1 when fewer requests lead to the right tool')
      .default(100)
      .argParser(number('--fail-under', 0, 100)),
  )
  .option('--junit <file>', 'write a report for continuous integration')
  .addOption(standIn())
  .addHelpText(
    'after',
    `${targets}

Examples:
  jexo rehearse hives.ts "how much sugar for 12 colonies this autumn?"
  jexo rehearse hives.ts "how much sugar for 12 colonies?" --run
  jexo rehearse apiary.ts apiary.requests.yaml
  jexo rehearse apiary.ts apiary.requests.yaml --model-url http://127.0.0.1:8080/v1 --model small

Without --model-url a stand-in chooses: it is no model, it weighs the words a request and a tool share, the same each time.
Exit codes: 0 enough were right, 1 too few were, 2 the sheet cannot be read, 3 the server or the model could not be reached.`,
  )
  .action(async (target: string | undefined, found: string[], options) =>
    (await import('./rehearse.js')).rehearse(
      [target, ...found].filter((word) => word !== undefined),
      command,
      { ...options, ...choiceOf(options) },
    ),
  );

withChoice(program.command('inspect'))
  .description('open a bench in the browser: see what is offered, call it, follow every message')
  .argument('[targets...]', 'one or several; with none, connect from the page')
  .addOption(new Option('--port <port>', 'port of the page; 0 takes any free one').default(0).argParser(port('--port')))
  .option('--open', 'open the address in a browser')
  .addOption(modelUrl())
  .addOption(modelName())
  .addOption(header().argParser(collect))
  .addOption(wireLog())
  .addOption(json())
  .addHelpText(
    'after',
    `${targets}\n\nExamples:\n  jexo inspect hives.ts\n  jexo inspect http://127.0.0.1:4300/mcp hives.ts --port 4400 --open\n  jexo inspect -- node server.mjs\n\nModules are read again when they are saved. The address holds a key that works once. The page is served to this machine only.`,
  )
  .action(async (found: string[], options) => (await import('./inspect.js')).inspect(found, command, { ...options, ...choiceOf(options) }));

program
  .command('register')
  .description('put a server into a host application’s configuration, and prove that it works there')
  .argument('[target]')
  .option('--with <file>', 'the configuration: JSON, JSON with comments, YAML or TOML')
  .option('--name <name>', 'the name of the entry (default: that of the target)')
  .option('--under <path>', 'where the map of servers is, as mcp.servers (default: where there is one)')
  .addOption(
    new Option('--env <name=value>', 'a variable for the server; without a value, the one it has here; may be repeated').argParser(collect),
  )
  .addOption(header().argParser(collect))
  .option('--replace', 'put it in place of the entry of that name')
  .option('--dry-run', 'show the difference, and write nothing')
  .option('--print', 'print the entry, to be put in by hand')
  .option('--remove <name>', 'take an entry out')
  .option('--list', 'list the entries')
  .option('--guidance <file>', 'write a text for the host’s own instructions: when to use which tool')
  .addOption(json())
  .addHelpText(
    'after',
    `${targets}

Examples:
  jexo register hives.ts --with ~/.config/host/servers.json
  jexo register hives.ts --with servers.json --env REGISTRY_TOKEN --dry-run
  jexo register http://127.0.0.1:4300/mcp --with servers.json --name hives
  jexo register --with servers.json --remove hives
  jexo check servers.json                    start every entry as the host would
  jexo list servers.json#hives               an entry as a target

Everything else in the file stays as it is, to the byte, and a copy of it is kept beside it.
Exit codes: 0 it works there, 1 it is written but does not work there, 2 wrong use, 3 the file cannot be read or written.`,
  )
  .action(async (target: string | undefined, options) =>
    (await import('./register.js')).register(target === undefined ? [] : [target], command, options),
  );

withChoice(program.command('pack'))
  .description('write a server to carry away')
  .argument('[target]')
  .addOption(new Option('--as <form>', 'what to write').choices(['bundle']).default('bundle'))
  .requiredOption('--out <folder>', 'where to write it')
  .option('--replace', 'put it in the place of a file of that name; without it nothing is overwritten')
  .option('--name <name>', 'the name the server gives itself')
  .addOption(json())
  .addHelpText(
    'after',
    '\nExamples:\n  jexo pack hives.ts --as bundle --out dist/\n  jexo pack api.openapi.yaml --only "GET *" --out dist/\n  node dist/hives.mjs                serves over stdio\n  node dist/hives.mjs --http 4300    serves over HTTP\n\nA bundle is one file that needs nothing but Node: packages, types and documents are built in; secrets are read where it runs.',
  )
  .action(async (target: string | undefined, options) => (await import('./pack.js')).pack(target, { ...options, ...choiceOf(options) }));

program
  .command('completion')
  .description('print the script that completes commands, tools, arguments and values in your shell')
  .argument('[shell]', 'bash, zsh or fish')
  .option('--for', 'print what may stand where the cursor is; the words stand behind --')
  .addOption(new Option('--quote', 'as words of a shell').hideHelp())
  .addHelpText('after', '\nExamples:\n  eval "$(jexo completion bash)"\n  jexo completion fish > ~/.config/fish/completions/jexo.fish')
  .action(async (shell: string | undefined, options: { for?: boolean; quote?: boolean }) =>
    (await import('./completion.js')).completion(program, shell, options.for ? (command ?? []) : undefined, options.quote ?? false),
  );

/** Pages a person has to visit before a call can be made, each on a line. */
function pagesIn({ code, data }: RpcError): string {
  const wanted =
    code === errorCodes.urlElicitationRequired ? (data as { elicitations?: { url?: unknown }[] } | undefined)?.elicitations : undefined;
  return (Array.isArray(wanted) ? wanted : [])
    .map(({ url }) => (typeof url === 'string' ? `\n  Visit first, then call again: ${url}` : ''))
    .join('');
}

/** An error in the three parts a person needs: what happened, where, what to do next. */
function report(error: unknown, asJson: boolean): number {
  const known = isJexoError(error)
    ? error
    : error instanceof RpcError
      ? new JexoError('JEXO_REMOTE', `The server refused: ${error.message}${pagesIn(error)}`, {
          data: { code: error.code, data: error.data },
        })
      : undefined;
  if (known === undefined) {
    if (asJson) printJson(JSON.stringify({ error: { code: 'JEXO_INTERNAL', message: messageOf(error) } }));
    else
      note(
        `${onErr('brick', symbols.failed)} ${messageOf(error)}\n  This is a fault of jexo itself. Run it again with JEXO_DEBUG=1 to see where it happened, and report it.`,
      );
    if (process.env.JEXO_DEBUG && error instanceof Error) note(error.stack ?? '');
    return 70;
  }
  if (asJson) printJson(JSON.stringify({ error: known }));
  else {
    note(`${onErr('brick', symbols.failed)} ${known.message} ${onErr('quiet', `(${known.code})`)}`);
    if (known.next !== '') note(`  ${known.next}`);
    if (process.env.JEXO_DEBUG) note(known.stack ?? '');
  }
  return catalogue[known.code].exit;
}

async function main(): Promise<number> {
  const asJson = words.includes('--json');
  try {
    if (words.length === 0) {
      print(program.helpInformation() + `\nStart with: jexo list hives.ts   (any file that exports functions)`);
      return 0;
    }
    await program.parseAsync(words, { from: 'user' });
    return Number(process.exitCode ?? 0);
  } catch (error) {
    if (error instanceof CommanderError) {
      if (error.exitCode === 0) return 0;
      return report(new JexoError('JEXO_USAGE', error.message.replace(/^error: /, '')), asJson);
    }
    return report(error, asJson);
  }
}

// A reader that stops early, as `head` does, is no error; nor is a terminal that is gone.
process.stdout.on('error', () => process.exit(0));
process.stderr.on('error', () => undefined);
// A call in this same process may wait for nothing that keeps a process alive; it is awaited all the same.
const alive = setInterval(() => {}, 2 ** 30);
process.exitCode = await main();
clearInterval(alive);
// Timers and connections that a module left behind would keep the process for ever.
await flushed();
process.exit();
