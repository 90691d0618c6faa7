import type { Offer } from '../../offers/offer.js';
import type { NeededSetting, Settings } from '../../offers/source.js';
import { isSecretSetting } from '../../protocol/secret-names.js';
import { isEnvSetting, readSetting, type Setting } from '../setting.js';
import type { ProverOptions } from './means.js';
import { createProver } from './prover.js';
import { createSender, type SendOptions } from './create-sender.js';
import type { Send } from './http-call.js';
import type { Secured, SecurityNeeds } from './security.js';
import { createLongAnswers } from './long-answers.js';

/** How the API behind a source is reached, within which limits. */
export interface UpstreamOptions extends SendOptions, ProverOptions {
  /** Headers sent with every request. */
  readonly headers?: Readonly<Record<string, Setting>>;
  /** Characters an answer may have; the rest can be read as a resource. Default 24,000, about 8,000 tokens. */
  readonly answerCharacters?: number;
  /** Sends requests some other way than over the network; see `inProcess`. */
  readonly send?: typeof fetch;
}

/** One service that is called over HTTP: how it is reached, who we are there, what it answered at length. */
export interface Upstream {
  readonly title: string;
  readonly send: Send;
  /** The headers sent with every request. @throws JexoError JEXO_SETTING */
  headers(): Readonly<Record<string, string>>;
  /** Headers that prove who we are, for requests that are not sent by `send`. @throws as `send` */
  proof(signal: AbortSignal): Promise<Readonly<Record<string, string>>>;
  /** Takes the secrets that have been used out of a text. */
  clean(text: string): string;
  /** Keeps a long answer, and gives the URI of its first part. */
  keep(text: string): string;
  /** Characters an answer may have. */
  readonly most: number;
  /** Where long answers can be read on; undefined when answers are never cut. */
  readonly longAnswers: Offer | undefined;
  /** Variables the secrets are read from. */
  readonly variables: readonly string[];
  /** Schemes whose secrets are not looked for, because the document that names them is not on this disk. */
  readonly notTrusted: readonly string[];
  /** What calls of this security need of the environment. @param sentTo the host that gets the secrets */
  needed(calls: readonly (readonly SecurityNeeds[])[], sentTo: string | undefined): readonly NeededSetting[];
}

/** @param slug the title as a URI scheme can carry it */
export function createUpstream(secured: Secured, slug: string, options: UpstreamOptions, settings: Settings): Upstream {
  const { headers = {}, send: fetchOne = fetch, answerCharacters = 24_000 } = options;
  const { title } = secured;
  const prover = createProver(secured, { ...options, settings }, fetchOne);
  const long = createLongAnswers(title, slug, answerCharacters);
  let sent: Record<string, string> | undefined;
  const ownSecrets = () => Object.entries(sent ?? {}).flatMap(([name, value]) => (isSecretSetting(name) ? [value] : []));
  return {
    title,
    send: createSender(title, prover, fetchOne, options),
    headers: () =>
      (sent ??= Object.fromEntries(
        Object.entries(headers).map(([name, value]) => [name, readSetting(value, `The header ${name}`, settings)]),
      )),
    proof: async (signal) => (await prover.prove([], { signal })).headers,
    clean: (text) =>
      [...prover.secrets(), ...ownSecrets()].reduce(
        (whole, secret) => (secret.length >= shortestMasked ? whole.replaceAll(secret, '(masked)') : whole),
        text,
      ),
    keep: long.keep,
    most: answerCharacters,
    longAnswers: Number.isFinite(answerCharacters) ? long.offer : undefined,
    variables: prover.variables,
    notTrusted: prover.notTrusted,
    needed(calls, sentTo) {
      const own = Object.entries(headers).flatMap(([name, setting]) => neededFor(setting, `the header ${name} of ${title}`, true));
      const proofs = prover
        .needed(calls)
        .map((variable) => ({ variable, purpose: `access to ${title}`, secret: true, ...(sentTo !== undefined && { sentTo }) }));
      return [...own, ...proofs];
    },
  };
}

/** What a setting needs of the environment: nothing when it stands in the code or has a fallback. */
export function neededFor(setting: Setting | undefined, purpose: string, secret: boolean): NeededSetting[] {
  return isEnvSetting(setting) && setting.fallback === undefined ? [{ variable: setting.variable, purpose, secret }] : [];
}

/** A secret shorter than this is part of too many words to be taken out of texts. */
const shortestMasked = 6;
