import { isJexoError, messageOf } from '../../errors.js';
import { answer, type Answer } from '../../offers/answer.js';

/** Turns what the caller can do something about into an answer that says so; anything else is thrown on. */
export async function guarded(work: () => Promise<Answer>, signal: AbortSignal, clean: (text: string) => string): Promise<Answer> {
  try {
    return await work();
  } catch (error) {
    signal.throwIfAborted();
    if (!(error instanceof TypeError || isJexoError(error))) throw error;
    const text = isJexoError(error) ? `${error.message}\n${error.next}` : messageOf(error);
    return answer({ content: [{ type: 'text', text: clean(text) }], isError: true });
  }
}
