<script setup lang="ts">
import {
  mdiAlertOctagonOutline,
  mdiAlertOutline,
  mdiApproximatelyEqual,
  mdiArrowRightThin,
  mdiCheck,
  mdiCheckAll,
  mdiClockAlertOutline,
  mdiContentDuplicate,
  mdiDebugStepOver,
  mdiEqual,
  mdiHelpCircleOutline,
  mdiInformationOutline,
  mdiKeyboardReturn,
  mdiMinusCircleOutline,
  mdiPauseCircleOutline,
  mdiPencilOutline,
  mdiPlusCircleOutline,
  mdiTrayArrowDown,
} from '@mdi/js'

import { word } from '../use/format'

defineProps<{ of: string | undefined }>()

// A state is told by its word and its icon; colour only helps.
const marks: Record<string, [icon: string, color?: string]> = {
  picked: [mdiCheck, 'success'],
  left_out: [mdiDebugStepOver],
  held_back: [mdiPauseCircleOutline, 'warning'],
  new: [mdiPlusCircleOutline, 'primary'],
  changed: [mdiPencilOutline, 'secondary'],
  removed: [mdiMinusCircleOutline, 'warning'],
  same: [mdiEqual],
  moved: [mdiArrowRightThin, 'primary'],
  returned: [mdiKeyboardReturn, 'primary'],
  went: [mdiMinusCircleOutline],
  arriving: [mdiTrayArrowDown, 'secondary'],
  in_doubt: [mdiHelpCircleOutline, 'error'],
  missing: [mdiMinusCircleOutline, 'error'],
  late: [mdiClockAlertOutline, 'warning'],
  complete: [mdiCheckAll, 'success'],
  doubled: [mdiContentDuplicate, 'warning'],
  near: [mdiApproximatelyEqual],
  warning: [mdiAlertOutline, 'warning'],
  note: [mdiInformationOutline],
  reachable: [mdiCheck, 'success'],
  unreachable: [mdiHelpCircleOutline, 'error'],
  broken: [mdiAlertOctagonOutline, 'error'],
  unknown: [mdiHelpCircleOutline, 'warning'],
  delivered: [mdiCheck, 'success'],
  stopped: [mdiAlertOctagonOutline, 'error'],
  failed: [mdiAlertOctagonOutline, 'error'],
  interrupted: [mdiMinusCircleOutline, 'warning'],
  waiting: [mdiPauseCircleOutline],
  asking: [mdiHelpCircleOutline, 'error'],
  running: [mdiDebugStepOver, 'primary'],
  rehearsed: [mdiCheckAll, 'secondary'],
  cancelled: [mdiMinusCircleOutline],
  last_good: [mdiKeyboardReturn, 'warning'],
  current: [mdiCheck, 'success'],
  not_used: [mdiMinusCircleOutline, 'warning'],
}
</script>

<template>
  <span v-if="of" class="mark" :class="marks[of]?.[1] && `text-${marks[of][1]}`">
    <v-icon v-if="marks[of]" :icon="marks[of][0]" size="16" aria-hidden="true" />
    {{ word(of) }}
  </span>
</template>

<style scoped>
.mark {
  white-space: nowrap;
  display: inline-flex;
  align-items: center;
  vertical-align: bottom;
  gap: 4px;
}
</style>
