<script setup lang="ts">
// The head of a column by which the list is in order; a click turns it round.
defineProps<{ ascending: boolean }>()
defineEmits<{ turn: [] }>()
</script>

<template>
  <th :aria-sort="ascending ? 'ascending' : 'descending'">
    <button type="button" :title="ascending ? 'The newest first' : 'The oldest first'" @click="$emit('turn')"><slot></slot> <span aria-hidden="true">{{ ascending ? '↑' : '↓' }}</span></button>
  </th>
</template>

<style scoped>
button {
  border: none;
  background: none;
  color: inherit;
  font: inherit;
  padding: 0;
  cursor: pointer;
}
button:hover {
  text-decoration: underline;
}
</style>
