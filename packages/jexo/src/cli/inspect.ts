export async function inspect(..._args: unknown[]): Promise<void> {}
