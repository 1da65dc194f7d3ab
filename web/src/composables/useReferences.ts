/** References: mixes of others, heard at once in place of what is listened to, equally loud, and never in the mix. */
import { computed, ref } from 'vue'
import { upload, type Reference } from '../api/client'
import { useRead } from '../api/reads'
import { setReference } from '../lib/intents'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

const LONGEST_MEASURING_MS = 8_000
const LOOK_MS = 30

export type References = ReturnType<typeof makeReferences>

export function makeReferences(session: SessionStore, play: Play) {
  const { id, state, version, edit } = session
  const list = computed<readonly Reference[]>(() => state.value.references ?? [])
  const pickedId = ref<string | null>(null)
  /** Which one the key plays. */
  const picked = computed(() => list.value.find((one) => one.id === pickedId.value) ?? list.value[0] ?? null)
  const incoming = ref<{ name: string; part: number } | null>(null)
  const problem = ref('')
  /** Set while its panel is open: then it is rendered beside all the while, and each switch is at once. */
  const stays = ref(false)

  const asBeside = (reference: Reference, heard: boolean) =>
    ({ what: 'reference', reference_id: reference.id, heard }) as const
  let before = play.beside.value
  let held = false

  /** Hold to hear it in place of what is listened to; nothing is heard of it before it is known how loud it is. */
  async function hear(on: boolean, reference = picked.value) {
    if (on === held || (on && !reference)) return
    held = on
    if (!on) {
      const now = play.beside.value
      play.beside.value = stays.value && now ? { ...now, heard: false } : before
      return
    }
    if (!reference) return
    const now = play.beside.value
    before = now?.what === 'reference' ? null : now
    if (now?.reference_id !== reference.id) play.beside.value = asBeside(reference, false)
    if (!play.playing.value) await play.play()
    await measured()
    if (held) play.beside.value = asBeside(reference, true)
  }
  async function measured() {
    const until = performance.now() + LONGEST_MEASURING_MS
    while (held && !play.match.value && performance.now() < until)
      await new Promise((resolve) => setTimeout(resolve, LOOK_MS))
  }

  /** How the chosen strip, or the whole mix, stands beside the picked reference: read while `looks`. */
  const looks = ref(false)
  const compared = useRead(
    'reference',
    () => (looks.value && picked.value ? { reference: picked.value.id, version: version.value } : null),
    ({ reference }, signal) =>
      session.analyse('sides', { strip_id: null, compared: 'reference', other: null, reference_id: reference }, signal),
    () => picked.value?.id,
  )

  async function add(files: FileList | null | undefined) {
    problem.value = ''
    for (const file of files ?? []) {
      incoming.value = { name: file.name, part: 0 }
      try {
        const next = await upload(`/sessions/${id}/references`, file, {}, (part) => {
          incoming.value = { name: file.name, part }
        })
        session.take(next)
        pickedId.value = next.references?.at(-1)?.id ?? null
      } catch (error) {
        problem.value = error instanceof Error ? error.message : String(error)
      }
    }
    incoming.value = null
  }

  const set = (reference: Reference, fields: { name?: string; start_frame?: number }, label: string) =>
    edit(`${label} of ${reference.name}`, [setReference(reference, fields)])
  const remove = (reference: Reference) =>
    edit(`Reference ${reference.name} let go`, [{ do: 'remove-reference', reference_id: reference.id }])

  /** Rendered beside from now on, or not any more. */
  function stay(on: boolean) {
    stays.value = on
    looks.value = on
    if (!on) play.beside.value = null
    else if (picked.value) play.beside.value = asBeside(picked.value, false)
  }
  function pick(reference: Reference) {
    pickedId.value = reference.id
    if (stays.value) play.beside.value = asBeside(reference, false)
  }

  return {
    list,
    picked,
    pick,
    incoming,
    problem,
    compared: compared.answer,
    comparing: compared.waiting,
    hear,
    heard: computed(() => play.beside.value?.what === 'reference' && play.beside.value.heard),
    add,
    set,
    remove,
    stay,
  }
}
