<script setup lang="ts">
import type { Reject } from '../api/client'

defineProps<{ rejects: Reject[]; path?: boolean }>()

/** The original row in three parts, the cell at fault in the middle. */
function parts(r: Reject): [string, string, string] {
  const at = r.value && !r.value.endsWith('...') ? r.original.indexOf(r.value) : -1
  if (at < 0) return [r.original, '', '']
  return [r.original.slice(0, at), r.value, r.original.slice(at + r.value.length)]
}
</script>

<template>
  <div class="scroll">
    <table class="grid">
      <thead>
        <tr>
          <th class="n">Line</th>
          <th>Column</th>
          <th>Why</th>
          <th>The row as it stands in the file</th>
          <th v-if="path">File</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rejects" :key="`${r.arrival}-${r.number}`">
          <td class="n">{{ r.line }}</td>
          <td class="t">{{ r.column || 'the row' }}</td>
          <td>{{ r.reason }}</td>
          <td class="mono path">
            {{ parts(r)[0] }}<mark v-if="parts(r)[1]">{{ parts(r)[1] }}</mark>{{ parts(r)[2] }}
          </td>
          <td v-if="path" class="path">
            <router-link :to="`/arrivals/${r.arrival}`">{{ r.path }}</router-link>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
mark {
  background: var(--mark);
  color: inherit;
  padding: 0 2px;
  border-radius: 2px;
  box-shadow: inset 0 -2px 0 var(--bad);
}
</style>
