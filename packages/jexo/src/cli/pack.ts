export async function pack(..._args: unknown[]): Promise<void> {}
