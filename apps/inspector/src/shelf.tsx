import { useState } from 'react';
import {
  Button,
  Collection,
  Header,
  Input,
  Label,
  ListBox,
  ListBoxItem,
  ListBoxSection,
  ListLayout,
  SearchField,
  Virtualizer,
} from 'react-aria-components';
import { markSeen } from './api';
import type { ConnectionState, OfferKind, ShelfItem } from './model';
import { choose, keep, useStore } from './store';
import { kindSigns, tokens } from './words';
import { counted } from './counted';

type Grouping = 'kind' | 'source' | 'tag';
const kinds: readonly OfferKind[] = ['tool', 'resource', 'template', 'prompt'];

/** What is offered: search on top, groups, a row an offer, what needs attention at its right edge. */
// eslint-disable-next-line max-lines-per-function -- the markup of one place
export function Shelf({ connection, chosen, onChosen }: { connection: ConnectionState; chosen: string | undefined; onChosen: () => void }) {
  const connections = useStore((store) => store.connections);
  const [words, setWords] = useState('');
  const [grouping, setGrouping] = useState<Grouping>('kind');
  const [only, setOnly] = useState<OfferKind>();
  const { shelf } = connection;
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const found = shelf.filter((item) => {
    if (only !== undefined && item.kind !== only) return false;
    const text = `${item.key} ${item.title ?? ''} ${item.description ?? ''}`.toLowerCase();
    return wanted.every((word) => text.includes(word));
  });
  const present = kinds.filter((kind) => shelf.some((item) => item.kind === kind));
  const marks = shelf.filter(({ mark }) => mark !== undefined).length + connection.removed.length;
  return (
    <aside className="shelf" aria-label="Shelf: what is offered">
      {connections.length > 1 && (
        <label className="which">
          <span className="unseen">Connection</span>
          <select value={connection.id} onChange={(event) => keep({ active: Number(event.target.value) })}>
            {connections.map((each) => (
              <option key={each.id} value={each.id}>
                {each.server?.serverInfo.title ?? each.server?.serverInfo.name ?? each.shown}
              </option>
            ))}
          </select>
        </label>
      )}
      <SearchField className="search" value={words} onChange={setWords}>
        <Label className="unseen">Search the shelf</Label>
        <Input placeholder="Search the shelf" />
      </SearchField>
      {present.length > 1 && (
        <div className="filters">
          <div className="segments" role="group" aria-label="Show only">
            {present.map((kind) => {
              const count = shelf.filter((item) => item.kind === kind).length;
              const { sign, many } = kindSigns[kind];
              return (
                <Button
                  key={kind}
                  className="plain small"
                  aria-label={`Only ${many.toLowerCase()}, ${count}`}
                  aria-pressed={only === kind}
                  onPress={() => setOnly(only === kind ? undefined : kind)}
                >
                  <span aria-hidden="true">
                    {sign} {count}
                  </span>
                </Button>
              );
            })}
          </div>
          {shelf.some(({ source }) => source !== undefined) && (
            <label className="grouping">
              <span className="unseen">Grouped by</span>
              <select value={grouping} onChange={(event) => setGrouping(event.target.value as Grouping)}>
                <option value="kind">by kind</option>
                <option value="source">by source</option>
                <option value="tag">by tag</option>
              </select>
            </label>
          )}
        </div>
      )}
      {marks > 0 && (
        <div className="changes" role="status">
          <span>
            {counted(marks, 'change')} since you looked
            {connection.removed.length > 0 && <span className="quiet"> (gone: {connection.removed.join(', ')})</span>}
          </span>
          <Button className="plain small" onPress={() => void markSeen(connection.id)}>
            Seen
          </Button>
        </div>
      )}
      <Virtualizer layout={ListLayout} layoutOptions={{ rowSize: 56, headingSize: 36 }}>
        <ListBox
          aria-label="What is offered"
          className="rows"
          selectionMode="single"
          disallowEmptySelection
          selectedKeys={chosen === undefined ? [] : [chosen]}
          onSelectionChange={(keys) => {
            const [key] = keys === 'all' ? [] : [...keys];
            if (key === undefined) return;
            choose(connection, String(key));
            onChosen();
          }}
          items={groupsOf(found, grouping)}
          renderEmptyState={() => (
            <p className="empty">{shelf.length === 0 ? emptyWords(connection.status) : 'Nothing matches. Clear the search to see all.'}</p>
          )}
        >
          {(group) => (
            <ListBoxSection id={group.name}>
              <Header className="group">
                <span>{group.name}</span>
                <span className="quiet">
                  {group.items.length}
                  {group.tokens > 0 && ` · ${tokens(group.tokens)}`}
                </span>
              </Header>
              <Collection items={group.items}>{Row}</Collection>
            </ListBoxSection>
          )}
        </ListBox>
      </Virtualizer>
      {connection.omitted.length > 0 && (
        <details className="omitted">
          <summary>
            {connection.omitted.length} omitted <span aria-hidden="true">!</span>
          </summary>
          {connection.omitted.map((each) => (
            <div key={each.name}>
              <code>{each.name}</code> <span className="quiet">{each.where}</span>
              <p>{each.why}.</p>
              <p className="quiet">{each.next}</p>
            </div>
          ))}
        </details>
      )}
    </aside>
  );
}

interface Entry {
  readonly id: string;
  readonly item: ShelfItem;
}
interface Group {
  readonly id: string;
  readonly name: string;
  readonly items: readonly Entry[];
  readonly tokens: number;
}

function groupsOf(items: readonly ShelfItem[], grouping: Grouping): Group[] {
  const nameOf = (item: ShelfItem) =>
    grouping === 'kind'
      ? kindSigns[item.kind].many
      : grouping === 'source'
        ? (item.source ?? 'elsewhere')
        : (item.tags?.[0] ?? 'without a tag');
  const groups = new Map<string, ShelfItem[]>();
  for (const item of items) {
    const name = nameOf(item);
    groups.set(name, [...(groups.get(name) ?? []), item]);
  }
  return [...groups].map(([name, own]) => ({
    id: name,
    name,
    items: own.map((item) => ({ id: `${item.kind} ${item.key}`, item })),
    tokens: own.reduce((sum, each) => sum + each.tokens, 0),
  }));
}

function Row({ id, item }: Entry) {
  const { sign, one } = kindSigns[item.kind];
  return (
    <ListBoxItem id={id} textValue={item.key} aria-label={`${item.key}, ${one}${item.mark ? `, ${item.mark}` : ''}`} className="row">
      <span className="kind" aria-hidden="true">
        {sign}
      </span>
      <span className="name">{item.key}</span>
      <span className="cost quiet">
        {item.mark && <span className="mark">{item.mark}</span>}
        {item.tokens > 0 && <span title={`About ${item.tokens} tokens in a model's context`}>~{item.tokens}</span>}
      </span>
      <span className="line quiet">{item.description?.split('\n')[0] ?? item.title ?? 'no description'}</span>
    </ListBoxItem>
  );
}

function emptyWords(status: ConnectionState['status']): string {
  if (status === 'connecting') return 'Connecting…';
  if (status === 'imported') return 'A saved trace offers nothing; its messages are on the trace.';
  return status === 'connected' ? 'This server offers nothing yet.' : 'There is nothing here until the server is connected.';
}
