import { StringDecoder } from 'node:string_decoder';

/** Cuts a byte stream into lines, whatever the chunks; a character split over two chunks survives. */
export class LineReader {
  private readonly decoder = new StringDecoder('utf8');
  private parts: string[] = [];
  private length = 0;
  private skipping = false;

  constructor(
    private readonly maxLength: number,
    private readonly onLine: (line: string) => void,
    private readonly onTooLong: (length: number) => void,
  ) {}

  push(chunk: Buffer | string): void {
    const text = typeof chunk === 'string' ? chunk : this.decoder.write(chunk);
    let start = 0;
    for (let end = text.indexOf('\n'); end >= 0; end = text.indexOf('\n', start)) {
      this.take(text.slice(start, end));
      start = end + 1;
      const line = this.parts.length === 1 ? this.parts[0]! : this.parts.join('');
      const skipped = this.skipping;
      this.parts = [];
      this.length = 0;
      this.skipping = false;
      if (!skipped && line.trim() !== '') this.onLine(line);
    }
    if (start < text.length) this.take(text.slice(start));
  }

  /** The last line need not end in a newline. */
  end(): void {
    this.push(this.decoder.end());
    const line = this.parts.join('');
    this.parts = [];
    if (!this.skipping && line.trim() !== '') this.onLine(line);
  }

  private take(part: string): void {
    if (this.skipping) return;
    this.length += part.length;
    if (this.length > this.maxLength) {
      this.skipping = true;
      this.parts = [];
      this.onTooLong(this.length);
      return;
    }
    this.parts.push(part);
  }
}
