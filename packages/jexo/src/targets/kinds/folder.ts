import { resolve } from 'node:path';
import { defineServer } from '../../offers/define-server.js';
import type { WrapFolderOptions } from '../../sources/folder/wrap-folder.js';
import { entryOfFile } from '../entry-of-file.js';
import { serverName } from '../server-name.js';
import type { OpenHow, TargetKind } from '../target-kind.js';

const again = (text: string, before: unknown = []) => [...(before as string[]), text];

/** A folder: its files as resources, and tools that search its documents. */
export const folderKind: TargetKind = {
  kind: 'folder',
  noun: 'a folder',
  example: './handbook',
  about: 'a folder: its files as resources, and tools that search its documents',
  options: [
    { name: 'files', flags: '--files <pattern>', about: 'only these files, such as *.md or plans/**; may be repeated', read: again },
    { name: 'exceptFiles', flags: '--except-files <pattern>', about: 'all files but these; may be repeated', read: again },
    { name: 'about', flags: '--about <sentence>', about: 'what the folder is about, for the description of its search' },
    { name: 'index', flags: '--index <where>', about: 'where the index of its documents is kept: memory, disk or a file' },
  ],
  // A path says that it is one; a bare name may be an installed package.
  matches: (text, peek) => /[\\/]|^\.{1,2}$/.test(text) && peek.what === 'folder',
  async open(place, how) {
    const { wrapFolder } = await import('../../sources/folder/wrap-folder.js');
    const name = nameOf(place);
    const source = wrapFolder(place, wrapOptions(how));
    return { server: defineServer({ name: serverName(name), title: `Folder ${name}`, version: '0.0.0', offers: [source] }), files: [] };
  },
  async pack(place, how) {
    const name = nameOf(place);
    const about = { name: serverName(name), title: `Folder ${name}`, version: '0.0.0' };
    const wrapped = `wrapFolder(new URL(${JSON.stringify(`./${name}/`)}, import.meta.url), ${JSON.stringify(wrapOptions(how))})`;
    return {
      imports: '',
      server: `defineServer({ ...${JSON.stringify(about)}, offers: [${wrapped}] })`,
      from: resolve('package.json'),
      name,
      beside: [{ path: resolve(place), as: name }],
    };
  },
  hostEntry: entryOfFile,
  name: nameOf,
  async project(place, info) {
    const [{ realFolder }, { folderProject }] = await Promise.all([
      import('../../sources/folder/scan-folder.js'),
      import('../../projects/project-files.js'),
    ]);
    return folderProject(info, await realFolder(place));
  },
};

function nameOf(place: string): string {
  return resolve(place).replace(/^.*[\\/]/, '') || 'folder';
}

function wrapOptions({ options }: OpenHow): WrapFolderOptions {
  const { files, exceptFiles, about, index } = options as {
    files?: readonly string[];
    exceptFiles?: readonly string[];
    about?: string;
    index?: string;
  };
  return {
    search: true,
    ...(files && { only: files }),
    ...(exceptFiles && { except: exceptFiles }),
    ...(about !== undefined && { about }),
    ...(index !== undefined && { index }),
  };
}
