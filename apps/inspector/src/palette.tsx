import { useEffect, useState } from 'react';
import { Autocomplete, Dialog, Input, Label, Menu, MenuItem, Modal, ModalOverlay, SearchField, useFilter } from 'react-aria-components';
import { reconnect } from './api';
import type { ConnectionState } from './model';
import { choose, keep } from './store';
import { kindSigns } from './words';

interface Command {
  readonly id: string;
  readonly words: string;
  readonly run: () => void;
}

/** Everything by keyboard: Ctrl K, a few letters, Enter. */
export function Palette({
  connections,
  active,
  nextTheme,
}: {
  connections: readonly ConnectionState[];
  active: ConnectionState | undefined;
  nextTheme: () => void;
}) {
  const [open, setOpen] = useState(false);
  const { contains } = useFilter({ sensitivity: 'base' });
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== 'k' || !(event.ctrlKey || event.metaKey)) return;
      event.preventDefault();
      setOpen((before) => !before);
    };
    addEventListener('keydown', onKey);
    return () => removeEventListener('keydown', onKey);
  }, []);
  if (!open) return null;
  const commands: Command[] = [
    { id: 'to-bench', words: 'Go to the bench', run: () => keep({ place: 'bench' }) },
    { id: 'to-model', words: 'Go to what a model sees', run: () => keep({ place: 'model' }) },
    { id: 'to-connections', words: 'Go to the connections', run: () => keep({ place: 'connections' }) },
    ...(active ? [{ id: 'reconnect', words: 'Connect again', run: () => void reconnect(active.id) }] : []),
    { id: 'theme', words: 'Change the theme', run: nextTheme },
    ...connections
      .filter(({ id }) => id !== active?.id)
      .map((connection) => ({
        id: `connection ${connection.id}`,
        words: `Look at ${connection.shown}`,
        run: () => keep({ active: connection.id, place: 'bench' }),
      })),
    ...(active?.shelf ?? []).map((item) => ({
      id: `${item.kind} ${item.key}`,
      words: `${kindSigns[item.kind].sign} ${item.key}`,
      run: () => choose(active!, `${item.kind} ${item.key}`),
    })),
  ];
  return (
    <ModalOverlay className="veil" isOpen isDismissable onOpenChange={setOpen}>
      <Modal className="palette">
        <Dialog aria-label="Commands">
          <Autocomplete filter={contains}>
            <SearchField autoFocus className="search">
              <Label className="unseen">Find a command or an offer</Label>
              <Input placeholder="Find a command or an offer" />
            </SearchField>
            <Menu
              className="commands"
              items={commands}
              aria-label="Commands"
              renderEmptyState={() => <p className="empty">Nothing is called so.</p>}
              onAction={(key) => {
                commands.find(({ id }) => id === key)?.run();
                setOpen(false);
              }}
            >
              {({ id, words }) => (
                <MenuItem id={id} textValue={words} className="command">
                  {words}
                </MenuItem>
              )}
            </Menu>
          </Autocomplete>
        </Dialog>
      </Modal>
    </ModalOverlay>
  );
}
