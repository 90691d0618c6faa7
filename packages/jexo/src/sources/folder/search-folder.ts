import { messageOf } from '../../errors.js';
import { checkVectors, type Embed, type IndexBuilder, type IndexProgress } from './build-index.js';
import { IndexLost } from './disk-index.js';
import type { Found, Narrowing } from './folder-index.js';
import type { Section } from './sections.js';
import { counted } from '../../protocol/counted.js';

/** How sections are found: by the words they have, by what they mean, or by both. */
export type SearchWay = 'words' | 'meaning' | 'both';

/** What a search gives. */
export interface SearchAnswer {
  readonly found: readonly Found[];
  readonly documents: number;
  /** What the answer lacks, as sentences. */
  readonly notes: readonly string[];
}

/** Searches a folder while its index is built. */
export interface FolderSearch {
  find(words: string, how: Narrowing & SearchHow): Promise<SearchAnswer>;
  sections(path: string): Promise<readonly Section[] | undefined>;
}

/** How one search is done. */
export interface SearchHow {
  readonly by: SearchWay;
  readonly signal?: AbortSignal;
  readonly onProgress?: (progress: IndexProgress) => void;
}

/** A search waits so long for an index that is being built, and then takes what is there. */
const patienceMs = 10_000;
/** How many of each list are fused. */
const fusedOf = 40;
/** Reciprocal rank fusion: how much the first places count over later ones. */
const fusionConstant = 60;
const keptQuestions = 100;

export function folderSearch(builder: IndexBuilder, embed: Embed | undefined): FolderSearch {
  const questions = new Map<string, Float32Array>();
  const vectorOf = async (words: string, by: Embed, signal?: AbortSignal): Promise<Float32Array> => {
    const known = questions.get(words);
    if (known !== undefined) return known;
    const made = await by([words], signal);
    checkVectors(made, 1);
    const vector = Float32Array.from(made[0]!);
    questions.set(words, vector);
    if (questions.size > keptQuestions) questions.delete(questions.keys().next().value!);
    return vector;
  };
  const lists = async (words: string, how: Narrowing & SearchHow): Promise<{ found: readonly Found[]; notes: string[] }> => {
    const { by, signal } = how;
    const index = await builder.index();
    if (by === 'words' || embed === undefined) return { found: index.byWords(words, how), notes: [] };
    let vector: Float32Array;
    try {
      vector = await vectorOf(words, embed, signal);
    } catch (error) {
      signal?.throwIfAborted();
      return { found: index.byWords(words, how), notes: [`Found by words alone: the search by meaning failed (${messageOf(error)}).`] };
    }
    const near = index.byVector(vector, { ...how, limit: by === 'both' ? fusedOf : how.limit });
    const { sections, embedded } = index.counts();
    const notes = embedded < sections ? [`Only ${embedded} of ${counted(sections, 'section')} can be found by meaning so far.`] : [];
    if (by === 'meaning') return { found: near, notes };
    return { found: fuse([index.byWords(words, { ...how, limit: fusedOf }), near]).slice(0, how.limit), notes };
  };
  return {
    async find(words, how) {
      await builder.settled(patienceMs, how.signal, how.onProgress);
      const { doing, done, total } = builder.progress;
      const building = doing === 'documents' ? [`The index is being built: ${done} of ${counted(total, 'document')} are in it.`] : [];
      try {
        const { found, notes } = await lists(words, how);
        const { files } = (await builder.index()).counts();
        return { found, documents: files, notes: [...building, ...builder.faults, ...notes] };
      } catch (error) {
        if (!(error instanceof IndexLost)) throw error;
        builder.lost(error.message);
        await builder.settled(patienceMs, how.signal, how.onProgress);
        const { found, notes } = await lists(words, how);
        return { found, documents: (await builder.index()).counts().files, notes: [...builder.faults, ...notes] };
      }
    },
    async sections(path) {
      await builder.settled(patienceMs);
      try {
        return (await builder.index()).sections(path);
      } catch (error) {
        if (!(error instanceof IndexLost)) throw error;
        builder.lost(error.message);
        await builder.settled(patienceMs);
        return (await builder.index()).sections(path);
      }
    },
  };
}

/** One list of several, by the sum of 1 / (60 + place) (reciprocal rank fusion). */
function fuse(lists: readonly (readonly Found[])[]): Found[] {
  const merged = new Map<string, { found: Found; score: number }>();
  for (const list of lists)
    for (const [place, found] of list.entries()) {
      const key = `${found.path}\n${found.section.line} ${found.section.anchor}`;
      const before = merged.get(key);
      const score = (before?.score ?? 0) + 1 / (fusionConstant + place + 1);
      merged.set(key, { found: before?.found.stems.size ? before.found : found, score });
    }
  return [...merged.values()].sort((a, b) => b.score - a.score).map(({ found, score }) => ({ ...found, score: Number(score.toFixed(4)) }));
}
