/** Where sound goes from each group; the server refuses circles, and the page does not offer them. */
import type { Group, SessionState, Track } from '../api/client'

/** Return the ids of all groups that a group's sound comes to. */
export function fedBy(groups: readonly Group[], from: string): Set<string> {
  const found = new Set<string>()
  let next = [from]
  while (next.length) {
    next = groups
      .filter((group) => next.includes(group.id))
      .flatMap((group) => [group.group_id, ...(group.sends ?? []).map((send) => send.to_id)])
      .filter((id): id is string => id != null && !found.has(id))
    next.forEach((id) => found.add(id))
  }
  return found
}

/** Return the tracks whose sound comes to a group; to the mix comes everything. */
export function tracksInto({ tracks, groups, master }: SessionState, id: string): Track[] {
  if (id === master.id) return tracks
  return tracks.filter((track) =>
    [track.group_id, ...(track.sends ?? []).map((send) => send.to_id)].some(
      (to) => to != null && (to === id || fedBy(groups, to).has(id)),
    ),
  )
}
