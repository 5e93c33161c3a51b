import { own } from '../json.ts';
import type { GuideStep, ProviderDefinition } from './definition.ts';
import { type PlaceholderValues, placeholdersIn } from './placeholder-text.ts';

export interface ShownStep extends GuideStep {
  done: boolean;
  /** The values to be entered, to be copied. */
  values: { name: string; value: string }[];
  /** Names of values that are still missing: the step cannot be followed yet. */
  missing: string[];
}

const TEXTS = ['where', 'does', 'do_not_confuse', 'leave_empty', 'instead'] as const;

/** The names in braces that a step uses. */
const namesIn = (step: GuideStep): string[] => [...new Set([...TEXTS.map((field) => step[field] ?? ''), step.page ?? ''].flatMap(placeholdersIn))];

/**
 * The steps for one client, with its values filled in; those of another purpose are left out. A value that is missing stands
 * there as ‹name› and is named; in the address of a page it stays as {name}.
 */
export function guideFor(
  definition: Pick<ProviderDefinition, 'guide'>,
  values: PlaceholderValues,
  state: { done: readonly string[]; purpose: string | null; entered?: readonly string[] },
): ShownStep[] {
  const fill = (text: string, missing: (name: string) => string): string =>
    text.replace(/\{([a-z][a-z0-9_]*)\}/g, (_all, name: string) => own(values, name) || missing(name));
  // Nobody copies braces: what is missing stands there by its name.
  const named = (name: string): string => `\u2039${name.replaceAll('_', ' ')}\u203a`;
  return definition.guide
    .filter((step) => step.purpose === undefined || step.purpose === state.purpose)
    .map((step) => {
      const names = namesIn(step);
      const filled = Object.fromEntries(TEXTS.flatMap((field) => (step[field] === undefined ? [] : [[field, fill(step[field], named)]])));
      return {
        ...step,
        ...filled,
        ...(step.page === undefined ? {} : { page: fill(step.page, (name) => `{${name}}`) }),
        // Ticked, or everything that it brings is entered here.
        done: state.done.includes(step.title) || (step.brings.length > 0 && step.brings.every((name) => state.entered?.includes(name))),
        // To be copied: what the step says to enter, not what it only speaks of.
        values: [...new Set(placeholdersIn(step.does))].flatMap((name) => (values[name] ? [{ name, value: values[name] }] : [])),
        missing: names.filter((name) => !values[name]),
      };
    });
}

/** The purposes by which steps differ. */
export const purposesOf = (definition: Pick<ProviderDefinition, 'guide'>): string[] => [...new Set(definition.guide.flatMap((step) => step.purpose ?? []))];
