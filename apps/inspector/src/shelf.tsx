import { useState } from 'react';
import { Input, Label, ListBox, ListBoxItem, SearchField } from 'react-aria-components';
import { useStore } from './store';

/** What is offered: search on top, a row a tool, its cost for a model at the right. */
export function Shelf({ chosen, onChoose }: { chosen: string | undefined; onChoose: (name: string) => void }) {
  const bench = useStore((store) => store.bench)!;
  const [words, setWords] = useState('');
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const found = bench.tools.filter(({ tool }) => {
    const text = `${tool.name} ${tool.title ?? ''} ${tool.description ?? ''}`.toLowerCase();
    return wanted.every((word) => text.includes(word));
  });
  const tokens = bench.tools.reduce((sum, each) => sum + each.tokens, 0);
  return (
    <aside className="shelf" aria-label="Shelf: what is offered">
      <SearchField className="search" value={words} onChange={setWords}>
        <Label className="unseen">Search the shelf</Label>
        <Input placeholder="Search the shelf" />
      </SearchField>
      <p className="group">
        <span>Tools</span>
        <span className="quiet">{bench.tools.length > 0 && `${bench.tools.length} · ~${tokens} tokens`}</span>
      </p>
      <ListBox
        aria-label="Tools"
        className="rows"
        selectionMode="single"
        disallowEmptySelection
        selectedKeys={chosen === undefined ? [] : [chosen]}
        onSelectionChange={(keys) => {
          const [key] = keys === 'all' ? [] : [...keys];
          if (key !== undefined) onChoose(String(key));
        }}
        items={found.map(({ tool, tokens: cost }) => ({ id: tool.name, tool, cost }))}
        renderEmptyState={() => (
          <p className="empty">{bench.tools.length === 0 ? emptyWords(bench.status) : 'No tool matches. Clear the search to see all.'}</p>
        )}
      >
        {({ tool, cost }) => (
          <ListBoxItem id={tool.name} textValue={tool.name} className="row">
            <span className="kind" aria-hidden="true">
              ƒ
            </span>
            <span className="name">{tool.name}</span>
            <span className="cost quiet" title={`About ${cost} tokens in a model's context`}>
              ~{cost}
            </span>
            <span className="line quiet">{tool.description?.split('\n')[0] ?? 'no description'}</span>
          </ListBoxItem>
        )}
      </ListBox>
      {bench.omitted.length > 0 && (
        <details className="omitted">
          <summary>
            {bench.omitted.length} left out <span aria-hidden="true">!</span>
          </summary>
          {bench.omitted.map((each) => (
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

function emptyWords(status: string): string {
  if (status === 'connecting') return 'Connecting…';
  return status === 'connected' ? 'This server offers no tools.' : 'There is nothing here until the server is connected.';
}
