import { useState } from 'react';

interface JsonFieldProps {
  readonly value: unknown;
  readonly onChange: (value: unknown) => void;
  /** Told whether the text is JSON at all. */
  readonly onWrong?: (wrong: boolean) => void;
  /** Why a value is not wanted here, whatever its schema. */
  readonly refuses?: (value: unknown) => string | undefined;
  readonly placeholder?: string;
  readonly id?: string;
  readonly rows?: number;
  readonly label?: string;
}

/** JSON as text. What cannot be read yet is kept as it is typed, and said. */
export function JsonField({ value, onChange, onWrong, refuses, label, rows = 3, ...rest }: JsonFieldProps) {
  const [text, setText] = useState(() => (value === undefined ? '' : JSON.stringify(value, null, 2)));
  const [wrong, setWrong] = useState<string>();
  const tell = (why: string | undefined) => {
    setWrong(why);
    onWrong?.(why !== undefined);
  };
  return (
    <>
      <textarea
        {...rest}
        aria-label={label}
        rows={rows}
        spellCheck={false}
        aria-invalid={wrong !== undefined}
        value={text}
        onChange={(event) => {
          const next = event.target.value;
          setText(next);
          if (next.trim() === '') {
            tell(undefined);
            return onChange(undefined);
          }
          let read: unknown;
          try {
            read = JSON.parse(next);
          } catch (error) {
            return tell(`Not JSON yet: ${(error as Error).message}`);
          }
          const why = refuses?.(read);
          tell(why);
          if (why === undefined) onChange(read);
        }}
      />
      {wrong !== undefined && <p className="wrong">{wrong}</p>}
    </>
  );
}
