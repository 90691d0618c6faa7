import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import type { CreateMessageParams, CreateMessageResult, ElicitResult } from '../protocol/types.js';
import type { Answered, Asker, FormQuestion, PageQuestion, ServerAnswers } from './answer-server.js';

/** Answers what servers ask while it attends. What is missing is declined in its name. */
export interface Attendant {
  /** A question of a server, with fields to fill in. */
  readonly form?: (question: FormQuestion) => Answered<ElicitResult>;
  /** A page that a server wants a person to visit. */
  readonly page?: (question: PageQuestion) => Answered<Pick<ElicitResult, 'action'>>;
  /** A server's request for the model. Throw `RpcError(errorCodes.userRejected, …)` when the person refuses. */
  readonly generate?: (request: CreateMessageParams, signal: AbortSignal, asker: Asker) => Answered<CreateMessageResult>;
  /** True while a call of this attendant runs on a server: then it is asked rather than another. */
  readonly isCalling?: (server: string) => boolean;
  /** Called when a server does not list what it offers. */
  readonly onListFailed?: (server: string, why: string) => void;
}

/** Who answers what servers ask: attendants come and go while the connections stay. */
export interface Attendance {
  /** What is declared to a server, and its handlers. */
  answersFor(server: string): Pick<ServerAnswers, 'elicitation' | 'sampling'>;
  attend(attendant: Attendant): () => void;
  failed(server: string, why: string): void;
}

/**
 * @param attended declares questions and requests for the model whether or not somebody attends yet
 * @param fallback answers while nobody attends
 */
export function attendance({ attended = true, ...fallback }: ServerAnswers & { readonly attended?: boolean }): Attendance {
  const attendants: Attendant[] = [];
  /** Whoever has a call running there, otherwise the one that came last. */
  const whoFor = (server: string, can: (attendant: Attendant) => unknown): Attendant | undefined => {
    const able = attendants.filter(can);
    return able.findLast((each) => each.isCalling?.(server)) ?? able.at(-1);
  };
  /** A server is shown by its name here, which it has not chosen itself. */
  const asked = (server: string, asker: Asker): Asker => ({ ...asker, server });
  return {
    answersFor(server) {
      const { elicitation, sampling } = fallback;
      return {
        ...((attended || elicitation !== undefined) && {
          elicitation: {
            ...((attended || elicitation?.form !== undefined) && {
              form: (given: FormQuestion) => {
                const question = { ...given, asker: asked(server, given.asker) };
                const attendant = whoFor(server, ({ form }) => form);
                return attendant?.form?.(question) ?? elicitation?.form?.(question) ?? { action: 'cancel' as const };
              },
            }),
            ...((attended || elicitation?.url !== undefined) && {
              url: (given: PageQuestion) => {
                const question = { ...given, asker: asked(server, given.asker) };
                const attendant = whoFor(server, ({ page }) => page);
                return attendant?.page?.(question) ?? elicitation?.url?.(question) ?? { action: 'cancel' as const };
              },
            }),
          },
        }),
        ...((attended || sampling !== undefined) && {
          sampling: {
            tools: true,
            ...sampling,
            create: (request: CreateMessageParams, signal: AbortSignal, asker: Asker) => {
              const attendant = whoFor(server, ({ generate }) => generate);
              if (attendant?.generate !== undefined) return attendant.generate(request, signal, asked(server, asker));
              if (sampling !== undefined) return sampling.create(request, signal, asked(server, asker));
              throw new RpcError(errorCodes.userRejected, 'Nobody is there to agree to the request');
            },
          },
        }),
      };
    },
    attend(attendant) {
      attendants.push(attendant);
      return () => {
        const at = attendants.indexOf(attendant);
        if (at >= 0) attendants.splice(at, 1);
      };
    },
    failed(server, why) {
      for (const { onListFailed } of attendants) onListFailed?.(server, why);
    },
  };
}
