const newline = 10;

/** Cuts a byte stream into lines, whatever the chunks; a character split over two chunks survives. */
export class LineReader {
  private parts: Buffer[] = [];
  private bytes = 0;
  private skipping = false;

  /** @param maxBytes bytes a line may have; of a longer one only its length is told, once */
  constructor(
    private readonly maxBytes: number,
    private readonly onLine: (line: string) => void,
    private readonly onTooLong: (bytes: number) => void,
  ) {}

  push(given: Buffer | string): void {
    const chunk = typeof given === 'string' ? Buffer.from(given) : given;
    let start = 0;
    for (let end = chunk.indexOf(newline); end >= 0; end = chunk.indexOf(newline, start)) {
      this.take(chunk.subarray(start, end));
      start = end + 1;
      this.finish();
    }
    if (start < chunk.length) this.take(chunk.subarray(start));
  }

  /** The last line need not end in a newline. */
  end(): void {
    this.finish();
  }

  private finish(): void {
    const { parts, skipping } = this;
    this.parts = [];
    this.bytes = 0;
    this.skipping = false;
    if (skipping) return;
    const line = (parts.length === 1 ? parts[0]! : Buffer.concat(parts)).toString('utf8');
    if (line.trim() !== '') this.onLine(line);
  }

  private take(part: Buffer): void {
    if (this.skipping) return;
    this.bytes += part.length;
    if (this.bytes > this.maxBytes) {
      this.skipping = true;
      this.parts = [];
      this.onTooLong(this.bytes);
      return;
    }
    this.parts.push(part);
  }
}
