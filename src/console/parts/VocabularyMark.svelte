<script lang="ts">
  import CircleAlert from '@lucide/svelte/icons/circle-alert';
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import CircleDashed from '@lucide/svelte/icons/circle-dashed';
  import CirclePause from '@lucide/svelte/icons/circle-pause';
  import CircleHelp from '@lucide/svelte/icons/circle-question-mark';
  import CircleX from '@lucide/svelte/icons/circle-x';
  import Moon from '@lucide/svelte/icons/moon';
  import UserRound from '@lucide/svelte/icons/user-round';
  import type { Word } from '../../api/vocabulary.ts';

  /** A word of the vocabulary as icon, text and color; never color alone. */
  const { word }: { word: Word } = $props();
  const ICONS = {
    alert: CircleAlert,
    check: CircleCheck,
    cross: CircleX,
    dashed: CircleDashed,
    moon: Moon,
    pause: CirclePause,
    person: UserRound,
    question: CircleHelp,
  };
  const TONES = { good: 'text-success', warning: 'text-warning', bad: 'text-error', quiet: 'text-base-content/70' };
  const Icon = $derived(ICONS[word.icon]);
</script>

<span class={['inline-flex items-center gap-1 align-middle whitespace-nowrap font-semibold', TONES[word.tone]]} title={word.says}>
  <Icon size={16} aria-hidden="true" />{word.label}
</span>
