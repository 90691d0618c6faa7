import { JexoError } from '../errors.js';
import type { NeededSetting, Omission } from '../offers/source.js';
import type { Target } from '../targets/target-kind.js';
import { readPublicUrl } from '../transports/http/public-url.js';
import { writeArtefact, type WrittenFile } from './artefact.js';
import { bundle, type BundleOptions } from './bundle.js';
import { containerForm } from './forms/container.js';
import { fileForm } from './forms/file.js';
import type { FormOptions, PackForm } from './forms/form.js';
import { functionForm } from './forms/function.js';
import { kubernetesForm } from './forms/kubernetes.js';
import { manifestForm } from './forms/manifest.js';
import { packageForm } from './forms/package.js';
import { serviceForm } from './forms/service.js';
import { findSecrets, refuseSecrets } from './secrets.js';
import { tryArtefact } from './try-artefact.js';

export const forms: readonly PackForm[] = [fileForm, packageForm, containerForm, serviceForm, functionForm, kubernetesForm, manifestForm];

/** How targets are packed. */
export interface PackOptions extends Omit<BundleOptions, 'entry'>, FormOptions {
  /** One of `forms`, by its name. */
  readonly as: string;
  /** Folder to write into; it is made when it is not there. */
  readonly out: string;
  /** True puts it in the place of what is there; otherwise nothing is overwritten. */
  readonly replace?: boolean;
}

/** What was packed. */
export interface Packed {
  readonly as: string;
  readonly out: string;
  readonly files: readonly WrittenFile[];
  /** Bytes of all of them. */
  readonly bytes: number;
  readonly server: { readonly name: string; readonly title?: string; readonly version: string };
  readonly tools: readonly string[];
  readonly omitted: readonly Omission[];
  /** Variables of the environment that it needs where it runs. */
  readonly settings: readonly NeededSetting[];
  /** Packages of npm that are installed where it runs. */
  readonly packages: readonly string[];
  /** True when it was started where nothing else is, and offered what its target offers. */
  readonly tried: boolean;
  /** How to use it, a sentence each. */
  readonly next: readonly string[];
}

/**
 * Packs targets, tries what came of it, and writes it: all of it or nothing.
 *
 * @throws JexoError JEXO_PACK, JEXO_SECRET, JEXO_TARGET_UNKNOWN, and all that opening the targets may throw
 */
export async function pack(targets: readonly Target[], options: PackOptions): Promise<Packed> {
  const form = forms.find(({ name }) => name === options.as);
  if (form === undefined)
    throw new JexoError('JEXO_USAGE', `There is no form ${options.as}; there are ${forms.map(({ name }) => name).join(', ')}.`);
  if (options.publicUrl !== undefined) readPublicUrl(options.publicUrl, '--public-url');
  const made = await bundle(targets, { ...options, entry: form.entry });
  refuseSecrets(
    findSecrets(
      [...made.inputs, ...made.from],
      made.beside.map(({ path }) => path),
      made.code,
    ),
  );
  const artefact = form.make(made, options);
  const tools = [...made.catalogue.tools.keys()];
  await tryArtefact(artefact, tools, made.packages);
  const files = writeArtefact(artefact, options.out, made.from, options.replace ?? false);
  const { name, title, version } = made.info;
  return {
    as: form.name,
    out: options.out,
    files,
    bytes: files.reduce((sum, { bytes }) => sum + bytes, 0),
    server: { name, ...(title !== undefined && { title }), version },
    tools,
    omitted: made.catalogue.omitted,
    settings: made.settings,
    packages: made.packages,
    tried: artefact.start !== undefined && made.packages.length === 0,
    next: artefact.next,
  };
}
