/** The clip's revisions, as a list. */
import { useQuery } from '@tanstack/react-query'
import { answer, client } from '../api/client'
import { useBench } from '../view/bench'

/** All revisions of the clip that is open, the oldest first; asked anew when its head moves. */
export function useHistory() {
  const clip = useBench((s) => s.clip)
  return useQuery({
    queryKey: ['history', clip?.id, clip?.head.id],
    enabled: clip !== null,
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/history', { params: { path: { clip_id: clip!.id } } }),
      ),
  })
}
