import { JexoError } from '../../errors.js';

/** Texts by their path from the document: '' is the document itself, the others are what it refers to. */
type Texts = Readonly<Record<string, string>>;
/** Documents by file name. */
export type FrozenDocuments = Readonly<Record<string, Texts>>;

let frozen: FrozenDocuments = {};
let recording: Map<string, { readonly document: string; readonly texts: Record<string, string> }> | undefined;

/** Does a work, and gives with its result every document that was read meanwhile, for freezing into a pack. */
export async function recordDocuments<T>(work: () => Promise<T>): Promise<{ result: T; documents: FrozenDocuments }> {
  const mine: NonNullable<typeof recording> = new Map();
  recording = mine;
  try {
    const result = await work();
    return { result, documents: Object.fromEntries([...mine].map(([name, { texts }]) => [name, texts])) };
  } finally {
    recording = undefined;
  }
}

/** @throws JexoError JEXO_PACK when two documents have one name: in a pack they lie in one folder */
export function noteDocument(document: string, href: string, text: string): void {
  if (recording === undefined || !document.startsWith('file:')) return;
  const name = nameOf(document);
  const earlier = recording.get(name);
  if (earlier !== undefined && earlier.document !== document)
    throw new JexoError('JEXO_PACK', `Two wrapped documents are called ${name}; in one file they could not be told apart.`, {
      where: name,
      next: 'Rename one of the files.',
    });
  const entry = earlier ?? { document, texts: {} };
  entry.texts[pathFrom(document, href)] = text;
  recording.set(name, entry);
}

export function freezeDocuments(all: FrozenDocuments): void {
  frozen = all;
}

/** What a pack carries of a document, wherever the pack lies. */
export function frozenText(document: string, href: string): string | undefined {
  return document.startsWith('file:') ? frozen[nameOf(document)]?.[pathFrom(document, href)] : undefined;
}

const nameOf = (href: string) => href.replace(/^.*\//, '');

/** `../shared/hive.yaml`, seen from the folder of the document. */
function pathFrom(document: string, href: string): string {
  if (href === document) return '';
  const [here, there] = [document, href].map((each) => each.split('/'));
  let same = 0;
  while (same < here!.length - 1 && here![same] === there![same]) same++;
  return [...here!.slice(same, -1).map(() => '..'), ...there!.slice(same)].join('/');
}
