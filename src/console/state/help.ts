/** The place in the Help that explains an error code. */
export const errorPage = (code: string): string => `#/help/errors/${code.toLowerCase().replaceAll('_', '-')}`;

/** The documents of the Help by kind, as the build lists them. */
export interface HelpIndex {
  kind: string;
  documents: { name: string; title: string }[];
}

/** Reads a document or the index of the Help, which are files of the console. @throws {Error} where the service does not have it */
export async function readHelp(name: string): Promise<string> {
  const response = await fetch(`/help/${name}`);
  if (!response.ok) throw new Error(`The help has no page ${name}.`);
  return response.text();
}
