import { lazy, Suspense, useMemo, useState } from 'react';
import { Button } from 'react-aria-components';
import { IssueList } from './issue-list';
import { JsonTree } from './json-tree';
import type { CallSheet, ContentBlock, Contents, Message, Readable } from './model';
import { bytes, duration, tokens } from './words';

const Chart = lazy(() => import('./chart'));
const Markdown = lazy(() => import('react-markdown'));

type View = 'readable' | 'chart' | 'tree' | 'raw';
const viewWords: Record<View, string> = { readable: 'Readable', chart: 'Chart', tree: 'Tree', raw: 'Raw' };

/** An answer, readable first; drawn, as a tree and raw on request. */
export function Answer({ call, onOpen }: { call: CallSheet; onOpen: (uri: string) => void }) {
  const [view, setView] = useState<View>('readable');
  const { result, contents, messages, shown, series, mismatch } = call;
  const whole = result ?? (contents ? { contents } : messages && { messages });
  if (whole === undefined) return null;
  const views: View[] = ['readable', ...(series ? (['chart'] as const) : []), 'tree', 'raw'];
  const structured = result?.structuredContent;
  return (
    <div className={`answer ${result?.isError ? 'is-error' : ''}`}>
      <div className="answer-head">
        <span className="quiet">
          {call.bytes !== undefined && bytes(call.bytes)}
          {call.tokens !== undefined && ` · ${tokens(call.tokens)}`}
        </span>
        <span className="segments" role="group" aria-label="How the answer is shown">
          {views.map((each) => (
            <Button key={each} className="plain small" aria-pressed={view === each} onPress={() => setView(each)}>
              {viewWords[each]}
            </Button>
          ))}
        </span>
      </div>
      {mismatch && (
        <div className="mismatch" role="alert">
          <p className="what">The answer does not fit the output schema that the server gave for it.</p>
          <IssueList issues={mismatch} whole="the whole answer" />
        </div>
      )}
      {view === 'raw' && <pre className="raw">{JSON.stringify(whole, null, 2)}</pre>}
      {view === 'tree' && <JsonTree value={structured ?? contents ?? messages ?? result} />}
      {view === 'chart' && series && (
        <Suspense fallback={<p className="quiet">Drawing…</p>}>
          <Chart series={series} />
        </Suspense>
      )}
      {view === 'readable' && (
        <>
          {shown && <Shown shown={shown} />}
          {result?.content
            .filter((block) => shown === undefined || block.type !== 'text')
            .map((block, index) => (
              <Block key={index} block={block} onOpen={onOpen} />
            ))}
          {result?.content.length === 0 && !shown && <p className="quiet">The answer is empty.</p>}
          {contents?.map((each) => (
            <ContentsView key={each.uri} contents={each} />
          ))}
          {messages?.map((message, index) => (
            <MessageView key={index} message={message} onOpen={onOpen} />
          ))}
        </>
      )}
    </div>
  );
}

export function MessageView({ message, onOpen }: { message: Message; onOpen: (uri: string) => void }) {
  return (
    <div className="spoken">
      <p className="step">{message.role}</p>
      {[message.content].flat().map((block, index) => (
        <Block key={index} block={block as ContentBlock} onOpen={onOpen} />
      ))}
    </div>
  );
}

function Shown({ shown }: { shown: Readable }) {
  if (shown.kind === 'text') return <Prose text={shown.text} />;
  if (shown.kind === 'fields') {
    return (
      <dl className="pairs">
        {shown.rows.map(([key, value]) => (
          <div key={key}>
            <dt>{key}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      </dl>
    );
  }
  if (shown.kind === 'parts')
    return shown.parts.map(({ name, shown: part }) => (
      <div key={name} className="part">
        {name !== '' && <p className="step">{name}</p>}
        <Shown shown={part} />
      </div>
    ));
  return <Table {...shown} />;
}

const firstRows = 200;
const isBlank = (cell: string | undefined) => cell === '' || cell === 'null';
const isNumeric = (rows: readonly (readonly string[])[], column: number) =>
  rows.every((row) => isBlank(row[column]) || Number.isFinite(Number(row[column])));

function Table({ headings, rows }: { headings: readonly string[]; rows: readonly (readonly string[])[] }) {
  const [order, setOrder] = useState<{ column: number; down: boolean }>();
  const [count, setCount] = useState(firstRows);
  const sorted = useMemo(() => {
    if (order === undefined) return rows;
    const { column, down } = order;
    const isNumber = isNumeric(rows, column);
    // What is missing comes last, whichever way the others go.
    const by = (a: readonly string[], b: readonly string[]) => {
      const [one, other] = [a[column]!, b[column]!];
      if (isBlank(one) || isBlank(other)) return Number(isBlank(one)) - Number(isBlank(other));
      const order = isNumber ? Number(one) - Number(other) : one.localeCompare(other, 'en', { numeric: true });
      return down ? -order : order;
    };
    return [...rows].sort(by);
  }, [rows, order]);
  const numeric = headings.map((_, column) => isNumeric(rows, column));
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label="Answer as a table">
      <table>
        <thead>
          <tr>
            {headings.map((heading, column) => {
              const own = order?.column === column ? order : undefined;
              return (
                <th
                  key={heading}
                  scope="col"
                  className={numeric[column] ? 'number' : ''}
                  aria-sort={own === undefined ? 'none' : own.down ? 'descending' : 'ascending'}
                >
                  <button type="button" onClick={() => setOrder({ column, down: own !== undefined && !own.down })}>
                    {heading}
                    <span aria-hidden="true">{own === undefined ? '' : own.down ? ' ↓' : ' ↑'}</span>
                  </button>
                </th>
              );
            })}
          </tr>
        </thead>
        <tbody>
          {sorted.slice(0, count).map((row, index) => (
            <tr key={index}>
              {row.map((cell, column) => (
                <td key={column} className={numeric[column] ? 'number' : ''}>
                  {cell}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length > count && (
        <Button className="plain small" onPress={() => setCount(count + 10 * firstRows)}>
          {rows.length - count} more rows
        </Button>
      )}
    </div>
  );
}

const looksLikeMarkdown = /^(?:#{1,6} |[-*] |\d+\. |> |```|\|.+\|)|\*\*[^*]+\*\*|\[[^\]]+\]\([^)]+\)/m;

/** A text as it is; one that is Markdown may be read as that. Markup in it is never run: it stays text. */
function Prose({ text, isMarkdown = looksLikeMarkdown.test(text) }: { text: string; isMarkdown?: boolean }) {
  const [plain, setPlain] = useState(false);
  if (!isMarkdown || plain)
    return (
      <>
        {isMarkdown && (
          <Button className="plain small" onPress={() => setPlain(false)}>
            As Markdown
          </Button>
        )}
        <pre className="text">{text}</pre>
      </>
    );
  return (
    <div className="markdown">
      <Button className="plain small" onPress={() => setPlain(true)}>
        As text
      </Button>
      <Suspense fallback={<pre className="text">{text}</pre>}>
        <Markdown
          components={{
            a: ({ href, children }) => (
              <span className="link" title={href}>
                {children}
              </span>
            ),
            img: ({ alt, src }) => <span className="quiet">[image: {alt ?? src}]</span>,
          }}
        >
          {text}
        </Markdown>
      </Suspense>
    </div>
  );
}

function ContentsView({ contents }: { contents: Contents }) {
  const { uri, mimeType, text, blob } = contents;
  return (
    <div className="contents">
      <p className="step">
        <code>{uri}</code> {mimeType}
      </p>
      {text !== undefined ? <TextOf text={text} mimeType={mimeType} /> : <Media data={blob ?? ''} mimeType={mimeType ?? ''} name={uri} />}
    </div>
  );
}

function TextOf({ text, mimeType = '' }: { text: string; mimeType: string | undefined }) {
  const json = useMemo(() => {
    if (!/json/.test(mimeType)) return undefined;
    try {
      return JSON.parse(text) as unknown;
    } catch {
      return undefined; // said to be JSON, and is not: shown as it came
    }
  }, [text, mimeType]);
  if (json !== undefined) return <JsonTree value={json} />;
  // A page of a server is data here, never a page.
  return (
    <Prose
      text={text}
      isMarkdown={mimeType === 'text/markdown' || (!/html|xml|svg|css|script/.test(mimeType) && looksLikeMarkdown.test(text))}
    />
  );
}

function Media({ data, mimeType, name }: { data: string; mimeType: string; name: string }) {
  const source = `data:${mimeType};base64,${data}`;
  if (mimeType.startsWith('image/')) return <img alt={`Image: ${name}`} src={source} />;
  if (mimeType.startsWith('audio/')) return <audio controls aria-label={`Sound: ${name}`} src={source} />;
  return (
    <p className="quiet">
      {mimeType || 'unknown kind'}, {bytes(Math.floor((data.length * 3) / 4))}
    </p>
  );
}

/** Content of a server is data, never markup: text stays text, images load from the answer itself only. */
function Block({ block, onOpen }: { block: ContentBlock; onOpen: (uri: string) => void }) {
  switch (block.type) {
    case 'text':
      return <Prose text={block.text ?? ''} />;
    case 'image':
    case 'audio':
      return <Media data={block.data ?? ''} mimeType={block.mimeType ?? ''} name={block.name ?? 'of the answer'} />;
    case 'resource':
      return block.resource === undefined ? null : <ContentsView contents={block.resource} />;
    case 'resource_link':
      return (
        <p className="resource-link">
          <Button className="plain small" onPress={() => onOpen(block.uri ?? '')}>
            Read <code>{block.uri}</code>
          </Button>{' '}
          <span className="quiet">{block.title ?? block.name}</span>
        </p>
      );
    default:
      return <pre className="raw">{JSON.stringify(block, null, 2)}</pre>;
  }
}

/** How long each of several runs took, drawn and in figures. */
export function Runs({ runs, times }: { runs: readonly number[]; times: number }) {
  const sorted = [...runs].sort((a, b) => a - b);
  const at = (share: number) => sorted[Math.min(sorted.length - 1, Math.floor(share * sorted.length))]!;
  const figures = [
    ['fastest', sorted[0]!],
    ['median', at(0.5)],
    ['95 of 100', at(0.95)],
    ['slowest', sorted.at(-1)!],
  ] as const;
  const series = useMemo(
    () => ({ axis: 'run', x: runs.map((_, index) => index + 1), isTime: false, lines: [{ name: 'ms', y: runs }] }),
    [runs],
  );
  return (
    <div className="runs">
      <p className="step">{runs.length === times ? `${runs.length} runs` : `${runs.length} of ${times} runs`}</p>
      <dl className="figures">
        {figures.map(([words, ms]) => (
          <div key={words}>
            <dt>{words}</dt>
            <dd>{duration(ms)}</dd>
          </div>
        ))}
      </dl>
      <Suspense fallback={<p className="quiet">Drawing…</p>}>
        <Chart series={series} height={160} points counts />
      </Suspense>
    </div>
  );
}
