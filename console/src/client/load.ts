// useLoad keeps the answer to a request, its failure, and whether it is under
// way. What was shown before stays while it is asked again.
import { ref, shallowRef } from 'vue'

export function useLoad<T>(request: () => Promise<T>) {
  const data = shallowRef<T>()
  const problem = ref('')
  const loading = ref(false)
  let latest = 0
  async function load() {
    const mine = ++latest
    loading.value = true
    try {
      const answer = await request()
      if (mine !== latest) return
      data.value = answer
      problem.value = ''
    } catch (e) {
      if (mine === latest) problem.value = (e as Error).message
    } finally {
      if (mine === latest) loading.value = false
    }
  }
  return { data, problem, loading, load }
}
