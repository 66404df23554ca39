import { computed, ref, type Ref } from 'vue'

const beyond = 10 // lines drawn above and below what is seen

/** The part of a long list that is drawn while it scrolls: each line is as high as the next, in pixels. */
export function useWindow<T>(lines: Readonly<Ref<T[]>>, high: number) {
  const top = ref(0)
  const seen = ref(4 * beyond)
  return {
    drawn: computed(() => lines.value.slice(top.value, top.value + seen.value)),
    above: computed(() => Math.min(top.value, lines.value.length) * high),
    below: computed(() => Math.max(0, lines.value.length - top.value - seen.value) * high),
    scrolled(e: Event) {
      const at = e.target as HTMLElement
      top.value = Math.max(0, Math.floor(at.scrollTop / high) - beyond)
      seen.value = Math.ceil(at.clientHeight / high) + 2 * beyond
    },
  }
}
