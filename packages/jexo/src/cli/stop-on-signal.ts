/**
 * The first signal lets what is in flight finish; a second one ends at once.
 * @param isWorker true where another process passes on what a terminal sends to both
 */
export function stopOnSignal(isWorker: boolean, stop: () => Promise<void>): void {
  let asked = false;
  const take = () => {
    if (asked) process.exit(130);
    asked = true;
    void stop();
  };
  process.on('SIGTERM', take);
  if (!isWorker) return void process.on('SIGINT', take);
  process.on('SIGINT', () => undefined);
  // Whoever started this process is gone.
  process.on('disconnect', () => asked || take());
}
