<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { dropped } from '../samplefile'

// What a service without feeds says: files that are dropped here are what the first feed is made of.
const router = useRouter()
const over = ref(false)
function drop(e: DragEvent) {
  over.value = false
  dropped.value = [...(e.dataTransfer?.files ?? [])] // the event forgets them when it is over
  void router.push('/new-feed')
}
</script>

<template>
  <div class="first" :class="{ over }" @dragover.prevent="over = true" @dragleave.self="over = false" @drop.prevent="drop">
    <p><b>No feeds yet.</b> Drop a file here that a supplier sends, or <router-link to="/new-feed">make a feed</router-link>: the file is read, and its columns, types and key are proposed.</p>
    <p class="quiet">On the command line: <code>mullein feed draft FILE</code> proposes a feed file, <code>mullein feed put FILE</code> makes a feed of it.</p>
  </div>
</template>

<style scoped>
.first {
  border: 1px dashed var(--line);
  border-radius: 5px;
  padding: 28px 20px;
  text-align: center;
}
.first.over {
  border-color: var(--felt);
  background: var(--soft);
}
p {
  margin: 4px 0;
}
</style>
