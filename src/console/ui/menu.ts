/** One action of a menu. */
export interface MenuItem {
  label: string;
  run(): void;
  disabled?: boolean;
  destructive?: boolean;
}
