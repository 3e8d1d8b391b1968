import { watch, type Ref } from 'vue'

// focusWhenOpen gives an element of a dialog the focus as soon as it is there, with or
// without motion and whatever else the dialog still waits for.
export function focusWhenOpen(visible: Ref<boolean | undefined>, find: () => HTMLElement | null | undefined) {
  const ask = (open: boolean | undefined) => {
    let left = 60
    const look = () => {
      const element = find()
      if (element) element.focus()
      else if (visible.value && left-- > 0) requestAnimationFrame(look)
    }
    if (open) requestAnimationFrame(look)
  }
  watch(visible, ask, { immediate: true }) // it may be open from its beginning
}
