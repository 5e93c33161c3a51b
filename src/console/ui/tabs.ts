/** The tab that an address names; the first where it names none, or one that is not there. */
export const tabOf = <T extends { id: string }>(tabs: readonly T[], named: string | null | undefined): string =>
  tabs.find((tab) => tab.id === named)?.id ?? tabs[0]?.id ?? '';
