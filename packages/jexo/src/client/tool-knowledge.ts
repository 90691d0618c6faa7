import { messageOf } from '../errors.js';
import { compileSchema, type CompiledSchema, type Issue } from '../offers/schema.js';
import type { CallToolResult, TaskSupport, Tool } from '../protocol/types.js';

/** What a client knows of a server's tools from listing them. */
export interface ToolKnowledge {
  learn(tools: readonly Tool[]): void;
  forget(): void;
  /** True when tools were listed since the server last said that they had changed. */
  isKnown(): boolean;
  taskSupport(name: string): TaskSupport | undefined;
  /** In what a structured answer does not fit the tool's schema; undefined when it fits, or nothing was promised. */
  misfit(name: string, result: CallToolResult): Promise<readonly Issue[] | undefined>;
}

/** @param deviates called for each schema that cannot be used; its answers are passed on unchecked */
export function createToolKnowledge(deviates: (account: string) => void): ToolKnowledge {
  const outputs = new Map<string, CompiledSchema>();
  const support = new Map<string, TaskSupport>();
  let known = false;
  const spoil = (name: string, error: unknown) => {
    outputs.delete(name);
    deviates(`The output schema of ${name} cannot be used, so its answers are not checked: ${messageOf(error)}`);
  };
  return {
    learn(tools) {
      outputs.clear();
      support.clear();
      known = true;
      for (const { name, outputSchema, execution } of tools) {
        support.set(name, execution?.taskSupport ?? 'forbidden');
        if (outputSchema === undefined || outputSchema === null) continue;
        try {
          outputs.set(name, compileSchema(outputSchema, 'output', `tool ${name}`));
        } catch (error) {
          spoil(name, error);
        }
      }
    },
    forget() {
      outputs.clear();
      support.clear();
      known = false;
    },
    isKnown: () => known,
    taskSupport: (name) => support.get(name),
    async misfit(name, { structuredContent }) {
      const schema = outputs.get(name);
      if (schema === undefined) return undefined;
      try {
        const checked = await schema.check(structuredContent === undefined ? undefined : structuredClone(structuredContent));
        return checked.ok ? undefined : checked.issues;
      } catch (error) {
        spoil(name, error);
        return undefined;
      }
    },
  };
}
