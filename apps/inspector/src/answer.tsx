import { useState } from 'react';
import { Button } from 'react-aria-components';
import type { CallSheet, ContentBlock, Readable } from './model';

/** An answer, readable first and raw on request. */
export function Answer({ call }: { call: CallSheet }) {
  const [raw, setRaw] = useState(false);
  const { result, shown } = call;
  if (result === undefined) return null;
  return (
    <div className={`answer ${result.isError ? 'is-error' : ''}`}>
      <div className="corner">
        <Button className="plain small" aria-pressed={raw} onPress={() => setRaw(!raw)}>
          {raw ? 'Readable' : 'Raw'}
        </Button>
      </div>
      {raw ? (
        <pre className="raw">{JSON.stringify(result, null, 2)}</pre>
      ) : shown ? (
        <Shown shown={shown} />
      ) : result.content.length === 0 ? (
        <p className="quiet">The answer is empty.</p>
      ) : (
        result.content.map((block, index) => <Block key={index} block={block} />)
      )}
    </div>
  );
}

function Shown({ shown }: { shown: Readable }) {
  if (shown.kind === 'text') return <pre className="text">{shown.text}</pre>;
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
  return (
    <div className="scroll" tabIndex={0} role="region" aria-label="Answer as a table">
      <table>
        <thead>
          <tr>
            {shown.headings.map((heading) => (
              <th key={heading} scope="col">
                {heading}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.rows.map((row, index) => (
            <tr key={index}>
              {row.map((cell, column) => (
                <td key={column}>{cell}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Content of a server is data, never markup: text stays text, images load from the answer itself only. */
function Block({ block }: { block: ContentBlock }) {
  switch (block.type) {
    case 'text':
      return <pre className="text">{block.text}</pre>;
    case 'image':
      return <img alt="Image of the answer" src={`data:${block.mimeType};base64,${block.data}`} />;
    case 'audio':
      return <audio controls src={`data:${block.mimeType};base64,${block.data}`} />;
    case 'resource':
      return <pre className="text">{block.resource?.text ?? block.resource?.uri}</pre>;
    case 'resource_link':
      return (
        <p>
          <code>{block.uri}</code> <span className="quiet">{block.name}</span>
        </p>
      );
    default:
      return <pre className="raw">{JSON.stringify(block, null, 2)}</pre>;
  }
}
