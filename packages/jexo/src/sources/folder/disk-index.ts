import { createHash } from 'node:crypto';
import { mkdirSync, rmSync, statSync } from 'node:fs';
import { dirname } from 'node:path';
import { distance } from '../../offers/nearest.js';
import { loadPackage } from '../../optional-package.js';
import { folderOf, matterOf, titleOfPath, type FolderIndex, type Found, type IndexedDocument, type Narrowing } from './folder-index.js';
import { textOf, textToEmbed } from './memory-index.js';
import type { Section } from './sections.js';
import { phrasesOf, wordsOf } from './words.js';

/** The parts of libSQL that are used. */
interface Statement {
  get(...values: unknown[]): Record<string, unknown> | undefined;
  all(...values: unknown[]): Record<string, unknown>[];
  run(...values: unknown[]): { changes: number };
}
interface Database {
  prepare(sql: string): Statement;
  exec(sql: string): void;
  close(): void;
}
type Opener = new (file: string) => Database;

/** Grows when the tables change: an index of another version is made again. */
const version = '2';
/** The application id of SQLite's header: `JEXO`. */
export const indexMark = 0x4a_45_58_4f;
/** A section's number is that of its file times this, plus its place in it. */
const perFile = 65_536;

/** The index is damaged, or another folder's: what it holds is thrown away. */
export class IndexLost extends Error {}
/** Another process writes to the index now. */
export class IndexBusy extends Error {}

/** A digest of what a section says. */
const hashOf = (section: Section): string => createHash('sha256').update(textOf(section)).digest('hex').slice(0, 32);

const tables = `
  create table if not exists about(name text primary key, value text) strict;
  create table if not exists files(id integer primary key, path text not null unique, stamp text not null, date text not null, matter text not null) strict;
  create virtual table if not exists sections using fts5(title, headings, text, anchor unindexed, line unindexed, depth unindexed, tokenize = 'porter unicode61 remove_diacritics 2');
  create virtual table if not exists vocabulary using fts5vocab(sections, 'row');
  create table if not exists digests(section integer primary key, hash text not null) strict;
  create index if not exists digest on digests(hash);
`;

/**
 * An index in one file of libSQL, which several processes may share: full text by FTS5, vectors by its vector index. Every change is a
 * transaction, so a process may end at any moment.
 *
 * @param owner what the index is of: folder and options
 * @throws JexoError JEXO_PACKAGE_MISSING
 * @throws IndexLost for a file that is damaged or of another owner
 */
export async function diskIndex(file: string, owner: string): Promise<FolderIndex> {
  const Database = await loadPackage<Opener>('libsql', 'libsql', 'An index on disk');
  mkdirSync(dirname(file), { recursive: true });
  return openIndex(() => new Database(file), file, owner);
}

/** Removes an index and what SQLite keeps beside it. */
export function removeIndex(file: string): void {
  for (const each of [file, `${file}-wal`, `${file}-shm`]) rmSync(each, { force: true });
}

/** Gives the faults of SQLite their meaning. */
function guarded<T>(work: () => T): T {
  try {
    return work();
  } catch (error) {
    const { code = '', message } = error as NodeJS.ErrnoException;
    const text = `${code} ${message}`;
    if (/BUSY|database is locked/i.test(text)) throw new IndexBusy(message, { cause: error });
    if (/CORRUPT|NOTADB|malformed|not a database|no such table|no such column/i.test(text)) throw new IndexLost(message, { cause: error });
    throw error;
  }
}

// eslint-disable-next-line max-lines-per-function -- the operations share the connection and its statements
function openIndex(connect: () => Database, file: string, owner: string): FolderIndex {
  const identity = () => {
    const { ino, dev } = statSync(file);
    return `${dev} ${ino}`;
  };
  const open = () => {
    const opened = connect();
    try {
      // The mark is the first thing written: a file without it is not ours.
      opened.exec(`pragma busy_timeout = 250; pragma application_id = ${indexMark}`);
      opened.exec('pragma journal_mode = wal; pragma synchronous = normal; pragma cache_size = -16000');
      const known = opened.prepare("select name from sqlite_master where name = 'about'").get();
      if (known === undefined) {
        opened.exec(`begin immediate; ${tables}`);
        const say = opened.prepare('insert or ignore into about values (?, ?)');
        say.run('version', version);
        say.run('owner', owner);
        opened.exec("insert into sections(sections, rank) values ('rank', 'bm25(3.0, 2.0, 1.0)'); commit");
      }
      const about = Object.fromEntries(
        opened
          .prepare('select name, value from about')
          .all()
          .map(({ name, value }) => [name, value]),
      );
      if (about.version !== version || about.owner !== owner)
        throw new IndexLost(about.owner === owner ? 'it is of another version' : 'it is the index of another folder, or of other options');
      return opened;
    } catch (error) {
      opened.close();
      throw error;
    }
  };
  let database = guarded(open);
  let opened = identity();
  let statements = new Map<string, Statement>();
  /** Another process may have made the file again. */
  const renew = () => {
    let now: string | undefined;
    try {
      now = identity();
    } catch (error) {
      throw new IndexLost('its file is gone', { cause: error });
    }
    if (now === opened) return;
    database.close();
    statements = new Map();
    database = open();
    opened = now;
  };
  const use = <T>(work: () => T): T =>
    guarded(() => {
      renew();
      return work();
    });
  const sql = (text: string) => {
    const known = statements.get(text) ?? database.prepare(text);
    statements.set(text, known);
    return known;
  };
  const within = (work: () => void) => {
    database.exec('begin immediate');
    try {
      work();
      database.exec('commit');
      vocabulary = undefined;
    } catch (error) {
      try {
        database.exec('rollback');
      } catch {
        // the transaction has ended by itself: the first error says why
      }
      throw error;
    }
  };
  const removeOne = (path: string) => {
    const known = sql('select id from files where path = ?').get(path);
    if (known === undefined) return;
    const from = Number(known.id) * perFile;
    sql('delete from sections where rowid between ? and ?').run(from, from + perFile - 1);
    sql('delete from digests where section between ? and ?').run(from, from + perFile - 1);
    sql('delete from files where id = ?').run(known.id);
  };
  const putOne = ({ path, stamp, sections, matter, date }: IndexedDocument) => {
    removeOne(path);
    const { id } = sql('insert into files(path, stamp, date, matter) values (?, ?, ?, ?) returning id').get(
      path,
      stamp,
      date,
      JSON.stringify(matter),
    )!;
    for (const [index, section] of sections.slice(0, perFile).entries()) {
      const { headings, text, anchor, line } = section;
      const rowid = Number(id) * perFile + index;
      sql('insert into sections(rowid, title, headings, text, anchor, line, depth) values (?, ?, ?, ?, ?, ?, ?)').run(
        rowid,
        headings[0] ?? titleOfPath(path),
        headings.slice(1).join('\n'),
        text,
        anchor,
        line,
        headings.length,
      );
      sql('insert into digests values (?, ?)').run(rowid, hashOf(section));
    }
  };
  const fetch = (rows: readonly { readonly rowid: number; readonly score: number }[], stems: ReadonlySet<string>): Found[] =>
    rows.flatMap(({ rowid, score }) => {
      const row = sql(
        'select path, title, headings, text, anchor, line, depth from sections join files on files.id = sections.rowid >> 16 where sections.rowid = ?',
      ).get(rowid);
      return row === undefined ? [] : [{ path: String(row.path), section: sectionOf(row), score: Number(score.toFixed(2)), stems }];
    });
  const match = (query: string, { filter, values }: Filter, most: number): { rowid: number; score: number }[] =>
    sql(
      `select rowid, rank from (select rowid, rank from sections where sections match ?${filter} limit ${mostRanked}) order by rank limit ?`,
    )
      .all(query, ...values, most)
      .map(({ rowid, rank }) => ({ rowid: Number(rowid), score: -Number(rank) }));
  let vocabulary: Vocabulary | undefined;
  /** What is known of the words is read again when the index has changed, by this process or another. */
  const vocabularyOf = (): Vocabulary => {
    const state = String(sql('pragma data_version').get()?.data_version);
    if (vocabulary?.state !== state) vocabulary = openVocabulary(state, countsOf(sql).sections, sql);
    return vocabulary;
  };
  const vectorsAre = () => sql("select 1 from sqlite_master where name = 'vectors'").get() !== undefined;
  return {
    place: file,
    stamps: () =>
      use(
        () =>
          new Map(
            sql('select path, stamp from files')
              .all()
              .map(({ path, stamp }) => [String(path), String(stamp)]),
          ),
      ),
    // What another process has taken in meanwhile is not taken in twice.
    put: (documents) =>
      use(() =>
        within(() => {
          const known = sql('select stamp from files where path = ?');
          for (const each of documents) if (known.get(each.path)?.stamp !== each.stamp) putOne(each);
        }),
      ),
    remove: (paths) => use(() => within(() => paths.forEach(removeOne))),
    byWords: (words, how) =>
      use(() => {
        const query = queryOf(words, vocabularyOf());
        if (query === undefined) return [];
        const filter = filterOf(how, 'sections.rowid >> 16');
        const found: ReturnType<typeof match> = [];
        for (const each of query.queries) {
          if (found.length >= how.limit) break;
          const known = new Set(found.map(({ rowid }) => rowid));
          found.push(...match(each, filter, how.limit + found.length).filter(({ rowid }) => !known.has(rowid)));
        }
        return fetch(found.slice(0, how.limit), query.stems);
      }),
    byVector: (vector, how) =>
      use(() => {
        if (!vectorsAre()) return [];
        const { filter, values } = filterOf(how, 'digests.section >> 16');
        const blob = bufferOf(vector);
        const most = filter === '' ? how.limit * 2 : how.limit * 20;
        const rows = sql(
          `select digests.section as rowid, vector_distance_cos(vectors.vector, ?) as distance
           from vector_top_k('vectors_by_angle', ?, ?) as near join vectors on vectors.id = near.id join digests on digests.hash = vectors.hash
           where true${filter} order by distance, rowid limit ?`,
        ).all(blob, blob, most, ...values, how.limit);
        return fetch(
          rows.map(({ rowid, distance: apart }) => ({ rowid: Number(rowid), score: 1 - Number(apart) })),
          new Set(),
        );
      }),
    sections: (path) =>
      use(() => {
        const known = sql('select id from files where path = ?').get(path);
        if (known === undefined) return undefined;
        const from = Number(known.id) * perFile;
        return sql('select title, headings, text, anchor, line, depth from sections where rowid between ? and ? order by rowid')
          .all(from, from + perFile - 1)
          .map(sectionOf);
      }),
    unembedded: (most) =>
      use(() => {
        const missing = vectorsAre() ? 'where hash not in (select hash from vectors)' : '';
        return sql(`select hash, min(section) as section from digests ${missing} group by hash order by section limit ?`)
          .all(most)
          .map(({ hash, section }) => {
            const row = sql('select title, headings, text, anchor, line, depth from sections where rowid = ?').get(section)!;
            return { hash: String(hash), text: textToEmbed(sectionOf(row)) };
          });
      }),
    keepVectors: (vectors) =>
      use(() => {
        const size = vectors[0]?.vector.length;
        if (size === undefined) return;
        const known = sql("select value from about where name = 'vector size'").get()?.value;
        within(() => {
          if (known !== String(size)) {
            statements = new Map();
            database.exec(
              `drop table if exists vectors; create table vectors(id integer primary key, hash text not null unique, vector F32_BLOB(${size}));
               create index vectors_by_angle on vectors(libsql_vector_idx(vector, 'metric=cosine', 'compress_neighbors=float8', 'max_neighbors=24'))`,
            );
            sql("insert or replace into about values ('vector size', ?)").run(String(size));
          }
          for (const { hash, vector } of vectors)
            sql('insert or ignore into vectors(hash, vector) values (?, ?)').run(hash, bufferOf(vector));
        });
      }),
    matter: () =>
      use(() =>
        matterOf(
          sql("select matter from files where matter <> '{}' limit 2000")
            .all()
            .map(({ matter }) => JSON.parse(String(matter)) as Record<string, unknown>),
        ),
      ),
    counts: () =>
      use(() => ({
        ...countsOf(sql),
        embedded: vectorsAre() ? Number(sql('select count(*) as n from digests where hash in (select hash from vectors)').get()!.n) : 0,
      })),
    close: () => database.close(),
  };
}

type Prepare = (text: string) => Statement;

function countsOf(sql: Prepare): { files: number; sections: number } {
  const { files, sections } = sql('select (select count(*) from files) as files, (select count(*) from digests) as sections').get()!;
  return { files: Number(files), sections: Number(sections) };
}

function sectionOf(row: Readonly<Record<string, unknown>>): Section {
  const rest = String(row.headings);
  return {
    anchor: String(row.anchor),
    headings: Number(row.depth) === 0 ? [] : [String(row.title), ...(rest === '' ? [] : rest.split('\n'))],
    text: String(row.text),
    line: Number(row.line),
  };
}

const bufferOf = (vector: Float32Array) => Buffer.from(vector.buffer, vector.byteOffset, vector.byteLength);

interface Filter {
  readonly filter: string;
  readonly values: readonly unknown[];
}

/** What a search is narrowed to, as a condition on the number of a file. */
function filterOf({ under, where = {}, since, until }: Narrowing, id: string): Filter {
  const conditions: string[] = [];
  const values: unknown[] = [];
  if (under !== undefined) {
    conditions.push("(path = ? or substr(path, 1, length(?) + 1) = ? || '/')");
    values.push(folderOf(under), folderOf(under), folderOf(under));
  }
  for (const [condition, day] of [
    ['date >= ?', since],
    ['date <= ?', until],
  ] as const)
    if (day !== undefined) {
      conditions.push(condition);
      values.push(day);
    }
  for (const [name, value] of Object.entries(where)) {
    conditions.push(
      `exists (select 1 from json_each(matter, '$.' || ?) as each where case each.type when 'true' then 'true' when 'false' then 'false' else cast(each.value as text) end = ?)`,
    );
    values.push(JSON.stringify(name), String(value));
  }
  return conditions.length === 0
    ? { filter: '', values: [] }
    : { filter: ` and ${id} in (select id from files where ${conditions.join(' and ')})`, values };
}

/** What the index knows of words, as long as nothing changes. */
interface Vocabulary {
  readonly state: string;
  readonly sections: number;
  /** In how many sections a stem is. */
  frequency(stem: string): number;
  /** Stems that begin like this one. */
  begun(stem: string): readonly string[];
  /** Up to three stems that are a typo or two away, and begin with the same letter. */
  alike(stem: string): readonly string[];
}

function openVocabulary(state: string, sections: number, sql: Prepare): Vocabulary {
  const frequencies = new Map<string, number>();
  const byLetter = new Map<string, readonly string[]>();
  const from = (start: string, most: number) =>
    sql('select term from vocabulary where term >= ? and term < ? limit ?')
      .all(start, `${start}\u{10FFFF}`, most)
      .map(({ term }) => String(term));
  return {
    state,
    sections,
    frequency(stem) {
      const known = frequencies.get(stem) ?? Number(sql('select doc from vocabulary where term = ?').get(stem)?.doc ?? 0);
      if (frequencies.size < keptFrequencies) frequencies.set(stem, known);
      return known;
    },
    begun: (stem) => from(stem, 10),
    alike(stem) {
      const letter = String.fromCodePoint(stem.codePointAt(0)!);
      const terms = byLetter.get(letter) ?? from(letter, -1);
      byLetter.set(letter, terms);
      const most = stem.length > 7 ? 2 : 1;
      return terms
        .filter((term) => Math.abs(term.length - stem.length) <= most)
        .map((term) => ({ term, apart: distance(stem, term) }))
        .filter(({ apart }) => apart <= most)
        .sort((a, b) => a.apart - b.apart)
        .slice(0, 3)
        .map(({ term }) => term);
    },
  };
}

/** How many sections one query ranks: beyond it, common words count only where rarer ones are found too, or in headings. */
const mostRanked = 1500;
const smallIndex = mostRanked;
const keptFrequencies = 20_000;
/** Words in fewer sections are found by their beginnings too. */
const rare = 20;

/** A question as FTS5 takes it: queries to be asked one after the other until enough is found. */
function queryOf(
  words: string,
  vocabulary: Vocabulary,
): { readonly queries: readonly string[]; readonly stems: ReadonlySet<string> } | undefined {
  const phrases = phrasesOf(words)
    .map((phrase) => phrase.replaceAll(/[^\p{L}\p{N}]+/gu, ' ').trim())
    .filter((phrase) => phrase !== '')
    .map((phrase) => `text : ${quoted(phrase)}`);
  const stems = new Set<string>();
  const terms = wordsOf(words)
    .map(({ word, stem }) => {
      const frequency = vocabulary.frequency(stem);
      const isRare = frequency < rare && word.length > 3;
      const begun = isRare ? vocabulary.begun(stem) : [];
      const alike = frequency > 0 || begun.length > 0 || word.length <= 3 ? [] : vocabulary.alike(stem);
      for (const each of [...(frequency > 0 ? [stem] : []), ...begun, ...alike]) stems.add(each);
      const ways = [quoted(word), ...alike.map(quoted), ...(isRare ? [`${quoted(word)} *`] : [])];
      return { frequency: frequency + begun.length + alike.length, query: ways.length === 1 ? ways[0]! : `(${ways.join(' OR ')})` };
    })
    .filter(({ frequency }) => frequency > 0)
    .sort((a, b) => a.frequency - b.frequency);
  const must = phrases.join(' AND ');
  if (terms.length === 0) return must === '' ? undefined : { queries: [must], stems };
  const narrowed = (query: string) => (must === '' ? query : `${must} AND (${query})`);
  const any = (some: typeof terms) => narrowed(some.map(({ query }) => query).join(' OR '));
  if (vocabulary.sections < smallIndex) return { queries: [any(terms)], stems };
  let ranked = 0;
  const kept = terms.filter(({ frequency }, index) => (ranked += frequency) < mostRanked || index === 0);
  const all = terms.map(({ query }) => query).join(' AND ');
  const inHeadings = terms[0]!.frequency > mostRanked ? [narrowed(`{title headings} : (${all})`)] : [];
  return { queries: [...inHeadings, narrowed(all), ...(terms.length > 1 ? [any(kept)] : [])], stems };
}

const quoted = (text: string) => `"${text.replaceAll('"', '""')}"`;
