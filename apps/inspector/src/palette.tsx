import { useEffect, useState } from 'react';
import { Autocomplete, Dialog, Input, Label, Menu, MenuItem, Modal, ModalOverlay, SearchField, useFilter } from 'react-aria-components';
import { listSheets, reconnect } from './api';
import type { ConnectionState, SheetName } from './model';
import { choose, keep } from './store';
import { kindSigns } from './words';

interface Command {
  readonly id: string;
  readonly words: string;
  readonly run: () => void;
}

interface PaletteProps {
  readonly connections: readonly ConnectionState[];
  readonly active: ConnectionState | undefined;
  readonly nextTheme: () => void;
}

function commandsOf({ connections, active, nextTheme }: PaletteProps, sheets: readonly SheetName[]): Command[] {
  return [
    { id: 'to-bench', words: 'Go to the bench', run: () => keep({ place: 'bench' }) },
    { id: 'to-model', words: 'Go to what a model sees', run: () => keep({ place: 'model' }) },
    ...(active ? [{ id: 'to-sheets', words: 'Go to the sheets', run: () => keep({ place: 'sheets' }) }] : []),
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
    ...(active ? sheets : []).map(({ name, kind }) => ({
      id: `sheet ${name}`,
      words: `Open ${name} (${kind})`,
      run: () => keep({ place: 'sheets', sheet: name }),
    })),
    ...(active?.shelf ?? []).map((item) => ({
      id: `${item.kind} ${item.key}`,
      words: `${kindSigns[item.kind].sign} ${item.key}`,
      run: () => choose(active!, `${item.kind} ${item.key}`),
    })),
  ];
}

/** Everything by keyboard: Ctrl K, a few letters, Enter. */
export function Palette({ connections, active, nextTheme }: PaletteProps) {
  const [open, setOpen] = useState(false);
  const [sheets, setSheets] = useState<readonly SheetName[]>([]);
  useEffect(() => {
    if (open) listSheets().then(setSheets, () => setSheets([])); // the place of the sheets says why it cannot list them
  }, [open]);
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
  const commands = commandsOf({ connections, active, nextTheme }, sheets);
  return (
    <ModalOverlay className="veil" isOpen isDismissable onOpenChange={setOpen}>
      <Modal className="palette">
        <Dialog aria-label="Commands">
          {/* The search field would take the first Escape to clear itself. */}
          <div role="presentation" onKeyDownCapture={(event) => event.key === 'Escape' && setOpen(false)}>
            <Autocomplete filter={contains}>
              <SearchField autoFocus className="search">
                <Label className="unseen">Find a command, an offer or a sheet</Label>
                <Input placeholder="Find a command, an offer or a sheet" />
              </SearchField>
              <Menu
                className="commands"
                items={commands}
                aria-label="Commands"
                renderEmptyState={() => <p className="empty">Nothing has that name.</p>}
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
          </div>
        </Dialog>
      </Modal>
    </ModalOverlay>
  );
}
