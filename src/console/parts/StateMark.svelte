<script lang="ts">
  import CircleAlert from '@lucide/svelte/icons/circle-alert';
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import CircleDashed from '@lucide/svelte/icons/circle-dashed';
  import CirclePause from '@lucide/svelte/icons/circle-pause';
  import CircleX from '@lucide/svelte/icons/circle-x';
  import Moon from '@lucide/svelte/icons/moon';
  import UserRound from '@lucide/svelte/icons/user-round';

  /** A state as icon, word and colour; never colour alone. */
  const { state }: { state: string } = $props();
  const LOOKS = {
    working: { icon: CircleCheck, word: 'working', colour: 'text-success' },
    idle: { icon: Moon, word: 'idle', colour: 'text-success' },
    struggling: { icon: CircleAlert, word: 'struggling', colour: 'text-warning' },
    needs_person: { icon: UserRound, word: 'needs a person', colour: 'text-error' },
    stopped: { icon: CircleX, word: 'stopped', colour: 'text-error' },
    draft: { icon: CircleDashed, word: 'draft', colour: 'text-base-content/70' },
    not_yet_agreed: { icon: CircleDashed, word: 'not yet agreed', colour: 'text-base-content/70' },
    paused: { icon: CirclePause, word: 'paused', colour: 'text-base-content/70' },
    revoked: { icon: CircleX, word: 'revoked', colour: 'text-base-content/70' },
    refused: { icon: CircleX, word: 'refused', colour: 'text-error' },
    they_ask_back: { icon: UserRound, word: 'they ask back', colour: 'text-warning' },
    asked: { icon: CircleDashed, word: 'approval asked', colour: 'text-warning' },
    not_asked: { icon: CircleDashed, word: 'approval not asked', colour: 'text-warning' },
    ready: { icon: CircleDashed, word: 'ready, not verified', colour: 'text-base-content/70' },
    given: { icon: CircleCheck, word: 'approved', colour: 'text-success' },
    unproved: { icon: CircleDashed, word: 'to be proved', colour: 'text-warning' },
    active: { icon: CircleCheck, word: 'in use', colour: 'text-success' },
    former: { icon: CirclePause, word: 'in reserve', colour: 'text-base-content/70' },
    retired: { icon: CircleX, word: 'retired', colour: 'text-base-content/70' },
  };
  const shown = $derived(LOOKS[state as keyof typeof LOOKS] ?? { icon: CircleDashed, word: state, colour: '' });
</script>

<span class={['inline-flex items-center gap-1 align-middle whitespace-nowrap font-semibold', shown.colour]}><shown.icon size={16} aria-hidden="true" />{shown.word}</span>
