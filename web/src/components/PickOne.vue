<script setup lang="ts" generic="T extends string | number | boolean">
// One of a few, side by side.
defineProps<{ about: string; name: string; of: { value: T; label: string; title?: string }[] }>()
const chosen = defineModel<T>({ required: true })
</script>

<template>
  <div class="pick" role="radiogroup" :aria-label="about">
    <label v-for="o in of" :key="String(o.value)" :class="{ chosen: o.value === chosen }" :title="o.title">
      <input type="radio" class="unseen" :name="name" :checked="o.value === chosen" @change="chosen = o.value" />{{ o.label }}
    </label>
  </div>
</template>

<style scoped>
.pick {
  display: flex;
}
label {
  position: relative;
  box-sizing: border-box;
  min-height: 28px;
  padding: 3px 14px;
  border: 1px solid var(--line);
  margin-left: -1px;
  cursor: pointer;
  white-space: nowrap;
}
label:first-child {
  border-radius: 4px 0 0 4px;
  margin-left: 0;
}
label:last-child {
  border-radius: 0 4px 4px 0;
}
label:hover {
  color: var(--felt);
}
.chosen {
  z-index: 1;
  border-color: var(--felt);
  color: var(--felt);
}
@media (max-width: 640px) {
  label {
    padding: 3px 9px;
  }
}
label:has(:focus-visible) {
  z-index: 2;
  outline: 2px solid var(--sun);
  outline-offset: 1px;
}
</style>
