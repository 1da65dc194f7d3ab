/** Places margin notes: each as near to its own frequency as the others allow, none over another. */

export interface Note {
  readonly id: string
  readonly y: number
  readonly height: number
}

export interface Placed {
  readonly id: string
  readonly top: number
}

/**
 * Place notes of given heights near their wanted middles, `gap` apart, inside 0..height.
 * Neighbours that collide are merged into a block that sits at the mean of what its notes want
 * (the pool-adjacent-violators method of isotonic regression), so no note is pushed further than it must.
 */
export function placeNotes(notes: readonly Note[], height: number, gap: number): Placed[] {
  interface Block {
    notes: Note[]
    wanted: number
    size: number
  }
  const top = (block: Block) => block.wanted
  const blocks: Block[] = []
  for (const note of [...notes].sort((a, b) => a.y - b.y)) {
    let block: Block = { notes: [note], wanted: note.y - note.height / 2, size: note.height + gap }
    let before = blocks.at(-1)
    while (before && top(before) + before.size > top(block)) {
      blocks.pop()
      const n = before.notes.length
      const m = block.notes.length
      block = {
        notes: [...before.notes, ...block.notes],
        wanted: (before.wanted * n + (block.wanted - before.size) * m) / (n + m),
        size: before.size + block.size,
      }
      before = blocks.at(-1)
    }
    blocks.push(block)
  }
  return settle(
    blocks.map((block) => ({ ...block, top: top(block) })),
    height,
  )
}

function settle(blocks: { notes: Note[]; size: number; top: number }[], height: number): Placed[] {
  let limit = height
  for (const block of [...blocks].reverse()) {
    block.top = Math.min(block.top, limit - block.size)
    limit = block.top
  }
  let floor = 0
  const placed: Placed[] = []
  for (const block of blocks) {
    let y = Math.max(block.top, floor)
    for (const note of block.notes) {
      placed.push({ id: note.id, top: y })
      y += note.height + (block.size - block.notes.reduce((sum, n) => sum + n.height, 0)) / block.notes.length
    }
    floor = y
  }
  return placed
}
