export interface GlobalOptions {
  url?: string;
  output: string;
}
