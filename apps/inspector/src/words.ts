export function duration(ms: number): string {
  if (ms < 10) return `${ms.toFixed(1)} ms`;
  return ms < 1000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`;
}

export function bytes(count: number): string {
  return count < 1000 ? `${count} B` : count < 1_000_000 ? `${(count / 1000).toFixed(1)} kB` : `${(count / 1_000_000).toFixed(1)} MB`;
}
