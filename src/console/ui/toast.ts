import { toast } from 'svelte-sonner';

/** Says for a moment that something was done; what fails is shown where it was done instead, and stays. */
export const notify = (message: string): void => void toast.success(message, { duration: 4_000 });
