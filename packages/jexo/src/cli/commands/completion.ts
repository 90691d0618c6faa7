import { propertiesOf } from '../../protocol/json-schema.js';
import { JexoError } from '../../errors.js';
import type { JsonSchema, Prompt, ResourceTemplate, Tool } from '../../protocol/types.js';
import { quoteForShell } from '../../inspect/input-text.js';
import { findKind } from '../../targets/find-kind.js';
import type { Cli, CliCommand, Invocation } from '../command.js';
import { wholeProgram } from '../run-cli.js';
import { connectTarget } from '../connect-target.js';
import { listedBefore, type Listed } from '../listings.js';
import { print } from '../terminal.js';

const scripts: Record<string, string> = {
  bash: `_jexo() {
  local IFS=$'\\n'
  local words=("\${COMP_WORDS[@]:1:COMP_CWORD}")
  mapfile -t COMPREPLY < <(jexo completion --for --quote -- "\${words[@]}" 2>/dev/null | cut -f1)
  compopt -o default 2>/dev/null
  [[ \${COMPREPLY[0]} == *= ]] && compopt -o nospace 2>/dev/null
  # A colon or an equals sign breaks words in bash: what stands before it is there already.
  local cur="\${COMP_WORDS[COMP_CWORD]}"
  [[ $cur == "=" ]] && COMPREPLY=("\${COMPREPLY[@]#*=}")
  [[ \${COMP_WORDS[COMP_CWORD-1]} == "=" ]] && COMPREPLY=("\${COMPREPLY[@]#*=}")
}
complete -F _jexo jexo`,
  zsh: `#compdef jexo
_jexo() {
  local -a found
  local line
  while IFS=$'\\t' read -r word about; do
    found+=("\${word//:/\\\\:}\${about:+:$about}")
  done < <(jexo completion --for -- "\${words[@]:1:$((CURRENT - 1))}" 2>/dev/null)
  if (( \${#found} )); then _describe 'jexo' found -S ''; else _files; fi
}
compdef _jexo jexo`,
  fish: `function __jexo
  set -l words (commandline -opc) (commandline -ct)
  jexo completion --for -- $words[2..-1] 2>/dev/null
end
complete -c jexo -a '(__jexo)'`,
};
const places: Record<string, string> = {
  bash: 'Add it to ~/.bashrc: eval "$(jexo completion bash)"',
  zsh: 'Add it to ~/.zshrc, after compinit: eval "$(jexo completion zsh)"',
  fish: 'Keep it: jexo completion fish > ~/.config/fish/completions/jexo.fish',
};

interface CompletionOptions {
  readonly for?: boolean;
  readonly quote?: boolean;
}

/** Prints the script that teaches a shell, or the words that may stand where the cursor is. */
async function completion({ operands: [shell], command: behind, options }: Invocation<CompletionOptions>, cli: Cli): Promise<void> {
  const words = options.for ? (behind ?? []) : undefined;
  if (words !== undefined) {
    for (const { word, about } of await candidates(cli, words)) {
      // What a server calls its things is put on a command line: nothing of it may be more than a word there.

      if (/[\u0000-\u001f\u007f-\u009f\u2028\u2029]/.test(word)) continue;
      const safe = options.quote ? quoteForShell(word) : word;
      print(about === undefined || about === '' ? safe : `${safe}\t${about.replaceAll(/\s+/g, ' ')}`);
    }
    return;
  }
  const script = scripts[shell ?? ''];
  if (script === undefined)
    throw new JexoError('JEXO_USAGE', `Which shell? One of: ${Object.keys(scripts).join(', ')}.`, {
      next: Object.values(places).join('\n  '),
    });
  print(`# ${places[shell!]}\n${script}`);
}

interface Candidate {
  readonly word: string;
  readonly about?: string;
}

async function candidates(cli: Cli, words: readonly string[]): Promise<readonly Candidate[]> {
  const program = await wholeProgram(cli);
  // Some shells hand over key=value in three words.
  const joined = words.join('\u0000').replaceAll('\u0000=\u0000', '=').replaceAll('\u0000=', '=').split('\u0000');
  const current = joined.at(-1) ?? '';
  const [name, ...before] = joined.slice(0, -1);
  const begins = (each: Candidate) => each.word.startsWith(current);
  const command = program.commands.find((each) => each.name() === name);
  if (command === undefined && name !== undefined) return [];
  if (command === undefined)
    return program.commands
      .filter((each) => each.name() !== 'completion' || current !== '')
      .map((each) => ({ word: each.name(), about: each.description() }))
      .filter(begins);
  if (current.startsWith('-'))
    return command.options.map(({ long, description }) => ({ word: long ?? '', about: description })).filter(begins);
  const waiting = command.options.find(({ long, required }) => required && long === before.at(-1));
  if (waiting !== undefined) return (waiting.argChoices ?? []).map((word) => ({ word })).filter(begins);
  const operands = before.filter((word) => !word.startsWith('-'));
  if (operands.length === 0) return []; // a file: the shell knows those better
  if (name === 'call' || name === 'read' || name === 'prompt') return (await ofServer(cli, name, operands, current)).filter(begins);
  return [];
}

/** What a server offers, and the arguments of what was chosen. */
async function ofServer(
  cli: Cli,
  name: 'call' | 'read' | 'prompt',
  [target = '', chosen, ...given]: readonly string[],
  current: string,
): Promise<readonly Candidate[]> {
  // A module is run by commands that a person gives, not by a key that completes them: what it offered last is told.
  const { kind } = await findKind(target, cli.more, { loads: false });
  const client =
    kind.runsCode === true
      ? await listedBefore(target)
      : (await connectTarget({ text: target, command: undefined }, { timeoutMs: 3000 })).client;
  if (client === undefined) return [];
  try {
    const { capabilities } = client.server;
    const taken = new Set(given.map((pair) => pair.split('=')[0]));
    const first = (text: string | undefined) => text?.split('\n')[0] ?? '';
    const fields = (entries: readonly (readonly [string, JsonSchema])[], isList: (schema: JsonSchema) => boolean = () => false) => {
      const key = current.includes('=') ? current.slice(0, current.indexOf('=')) : undefined;
      const schema = entries.find(([each]) => each === key)?.[1];
      if (schema !== undefined) return valuesOf(schema).map((value) => ({ word: `${key}=${value}` }));
      return entries
        .filter(([each, known]) => !taken.has(each) || isList(known))
        .map(([each, { description }]) => ({ word: `${each}=`, about: first(description) }));
    };
    if (name === 'call') {
      const tools: readonly Tool[] = capabilities.tools === undefined ? [] : await client.tools();
      const tool = tools.find((each) => each.name === chosen);
      if (tool === undefined) return tools.map((each) => ({ word: each.name, about: first(each.description) }));
      return fields(Object.entries(propertiesOf(tool.inputSchema)), ({ type }) => type === 'array');
    }
    if (name === 'prompt') {
      const prompts: readonly Prompt[] = capabilities.prompts === undefined ? [] : await client.prompts();
      const prompt = prompts.find((each) => each.name === chosen);
      if (prompt === undefined) return prompts.map((each) => ({ word: each.name, about: first(each.description) }));
      const known = fields(
        (prompt.arguments ?? []).map(
          ({ name: argument, description }) => [argument, description === undefined ? {} : { description }] as const,
        ),
      );
      return current.includes('=') ? await completed(client, { type: 'ref/prompt', name: prompt.name }, current) : known;
    }
    if (capabilities.resources === undefined) return [];
    const [resources, templates]: [readonly { uri: string; name: string }[], readonly ResourceTemplate[]] = await Promise.all([
      client.resources(),
      client.templates(),
    ]);
    const template = templates.find((each) => each.name === chosen || each.uriTemplate === chosen);
    if (template === undefined)
      return [
        ...resources.map(({ uri, name: title }) => ({ word: uri, about: title })),
        ...templates.map((each) => ({ word: each.name, about: each.uriTemplate })),
      ];
    if (current.includes('=')) return await completed(client, { type: 'ref/resource', uri: template.uriTemplate }, current);
    return [...template.uriTemplate.matchAll(/\{[+#./;?&]?([^}]+)\}/g)].flatMap(([, names]) =>
      names!.split(',').map((each) => ({ word: `${each.replace(/[*:].*$/, '')}=` })),
    );
  } finally {
    await client.close();
  }
}

type Completing = Listed;

/** Values the server itself suggests. */
async function completed(client: Completing, ref: Parameters<Completing['complete']>[0], current: string): Promise<Candidate[]> {
  if (client.server.capabilities.completions === undefined) return [];
  const at = current.indexOf('=');
  const name = current.slice(0, at);
  const { values } = await client.complete(ref, { name, value: current.slice(at + 1) });
  return values.map((value) => ({ word: `${name}=${value}` }));
}

function valuesOf({ enum: values, const: only, type, examples, default: given }: JsonSchema): string[] {
  const show = (value: unknown) => (typeof value === 'string' ? value : JSON.stringify(value));
  if (Array.isArray(values)) return (values as unknown[]).map(show);
  if (only !== undefined) return [show(only)];
  if (type === 'boolean') return ['true', 'false'];
  return [...((examples as unknown[] | undefined) ?? []), ...(given === undefined ? [] : [given])].map(show);
}

export const command: CliCommand<CompletionOptions> = {
  name: 'completion',
  about: 'print a completion script for your shell: commands, tools, arguments and values',
  operands: [['[shell]', 'bash, zsh or fish']],
  options: [
    { flags: '--for', about: 'print completions for the words after --' },
    { flags: '--quote', about: 'as words of a shell', isHidden: true },
  ],
  help: `Examples:
  eval "$(jexo completion bash)"
  jexo completion fish > ~/.config/fish/completions/jexo.fish`,
  run: completion,
};
