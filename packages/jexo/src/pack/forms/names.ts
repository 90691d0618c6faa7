import { wantedVersion } from '../../optional-package.js';
import type { Bundle } from '../bundle.js';

/** A name as packages, images and services may have one. */
export function slugOf({ info }: Bundle): string {
  return (
    info.name
      .toLowerCase()
      .replaceAll(/[^a-z0-9]+/g, '-')
      .replaceAll(/^-+|-+$/g, '')
      .slice(0, 60) || 'server'
  );
}

/** A version as npm wants it. */
export const versionOf = ({ info }: Bundle): string => (/^\d+\.\d+\.\d+(?:[-+][\w.+-]+)?$/.test(info.version) ? info.version : '0.0.0');

/** What the server is, in a sentence without line ends. */
export const aboutOf = ({ info, catalogue }: Bundle): string =>
  (info.description ?? info.title ?? `Tools: ${[...catalogue.tools.keys()].join(', ')}`).replaceAll(/\s+/g, ' ').trim();

/** Packages that are installed where it runs, as `dependencies` names them. */
export const dependenciesOf = ({ packages }: Bundle): Record<string, string> =>
  Object.fromEntries(packages.map((name) => [name, wantedVersion(name)]));

/** Folders and files that are copied, below a folder of the artefact. */
export const copiesBelow = ({ beside }: Bundle, folder = ''): { readonly path: string; readonly as: string }[] =>
  beside.map(({ path, as }) => ({ path, as: `${folder}${as}` }));

/** A placeholder for each variable, for a file of the environment. */
export const environmentFile = ({ settings }: Bundle): string =>
  settings.map(({ variable, purpose, secret }) => `# ${purpose}${secret ? '; a secret' : ''}\n${variable}=\n`).join('');

/** What is said of the variables it needs. */
export const needs = ({ settings }: Bundle): string[] => settings.map(({ variable, purpose }) => `It needs ${variable}: ${purpose}`);

export const installs = ({ packages }: Bundle): string[] =>
  packages.length === 0
    ? []
    : [`It needs packages beside it: npm install ${packages.map((name) => `${name}@${wantedVersion(name).slice(1)}`).join(' ')}`];
