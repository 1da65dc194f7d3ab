/** Where sound goes from each group; the server refuses circles, and the page does not offer them. */
import type { Group } from '../api/client'

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
