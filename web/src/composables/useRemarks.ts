/** Remarks: what whoever listens says at a time of a track, and where it is about a frequency, there. */
import { computed, ref } from 'vue'
import type { Remark, Strip } from '../api/client'
import { addRemark, removeRemark, stripsOf } from '../lib/intents'
import { newId } from '../lib/moves'
import type { Bench } from './useBench'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

const AUTHOR = 'mivlo-remarks-by'
const BEFORE_S = 1.5

export type Remarks = ReturnType<typeof makeRemarks>

export function makeRemarks(session: SessionStore, play: Play, bench: Bench) {
  const { state, chosen, chosenId, knownChosen, edit } = session
  /** The time that is written about, while somebody writes. */
  const atS = ref<number | null>(null)
  const hz = ref<number | null>(null)
  const text = ref('')
  const author = ref(localStorage.getItem(AUTHOR) ?? '')

  /** Begin one: where it is heard just now, and at the pointer's frequency where there is one. */
  function begin(at = play.positionFrame.value / play.rate.value, atHz = bench.shownHz.value) {
    atS.value = Math.max(at, 0)
    hz.value = atHz === null ? null : Math.round(atHz)
    text.value = ''
  }
  async function say() {
    const strip = knownChosen()
    const written = text.value.trim()
    if (!strip || atS.value === null || !written) return
    localStorage.setItem(AUTHOR, author.value.trim())
    const remark = { id: newId(), text: written, author: author.value.trim(), at_s: atS.value, hz: hz.value }
    atS.value = null
    await edit(`Remark on ${strip.name}`, [addRemark(strip, remark)])
  }
  const remove = (strip: Strip, remark: Remark) =>
    edit(`Remark on ${strip.name} taken away`, [removeRemark(strip, remark.id)])

  const list = computed(() =>
    stripsOf(state.value)
      .flatMap((strip) => (strip.remarks ?? []).map((remark) => ({ strip, remark })))
      .sort((one, other) => one.remark.at_s - other.remark.at_s),
  )
  /** Play from just before it, on its track. */
  function hear({ strip, remark }: { strip: Strip; remark: Remark }) {
    chosenId.value = strip.id
    void play.play(Math.round(Math.max(remark.at_s - BEFORE_S, 0) * play.rate.value))
  }

  return { chosen, atS, hz, text, author, list, begin, say, cancel: () => (atS.value = null), remove, hear }
}
