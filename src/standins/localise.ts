/**
 * A definition's addresses moved to loopback: `https://api.eelgrass.example` becomes `http://api.eelgrass.localhost:PORT`.
 * The text is changed, not the parsed document, so that comments stay.
 */
export const localiseDefinition = (text: string, port: number): string =>
  text
    .replace(/\*\.([a-z0-9.-]+)\.(example|test)\b/g, '*.$1.localhost')
    .replace(/https:\/\/([a-z0-9.{}_-]+)\.(example|test)\b/g, `http://$1.localhost:${port}`);
