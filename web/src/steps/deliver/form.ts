/** Presets as the panel works with them: fields, what they are called, and where they deviate. */
import { type UseQueryResult, useQuery } from '@tanstack/react-query'
import { answer, client, type Schemas } from '../../api/client'

export type Form = Schemas['Preset']
export type PresetOut = Schemas['PresetOut']

export const FORMATS: Record<Form['format'], string> = {
  bvh: 'BVH',
  glb: 'GLB, glTF in one file',
  gltf: 'glTF as text',
  usdc: 'USD, crate',
  usda: 'USD, text',
  json: 'Clip JSON, curves kept',
  csv: 'CSV of channels',
  'csv-world': 'CSV of places',
}
export const KINDS: Record<Form['without'][number], string> = {
  twists: 'twists',
  helpers: 'helpers',
  ends: 'ends',
  fingers: 'fingers',
}
export const isScene = (form: Form) => /^(glb|gltf|usda|usdc)$/.test(form.format)
export const isGltf = (form: Form) => form.format === 'glb' || form.format === 'gltf'

export function usePresets(workspace: number): UseQueryResult<PresetOut[]> {
  return useQuery({
    queryKey: ['presets', workspace],
    enabled: workspace > 0,
    queryFn: () =>
      answer(
        client.GET('/api/workspaces/{workspace_id}/presets', {
          params: { path: { workspace_id: workspace } },
        }),
      ),
  })
}

/** A form in another format: what that cannot hold goes back to what it is without. */
export function inFormat(form: Form, format: Form['format']): Form {
  const next = { ...form, format }
  if (isGltf(next)) return { ...next, up_axis: null, unit: null }
  const upright = isScene(next) && next.up_axis === 'x' ? { up_axis: null } : {}
  const alone = next.files === 'together' ? { files: 'whole' as const } : {}
  return { ...next, ...upright, ...alone, within_deg: null, fewest: false }
}

/** The fields in which a form is other than a preset. */
export function deviations(form: Form, preset: Form | undefined): Set<keyof Form> {
  const names = Object.keys(form) as (keyof Form)[]
  const plain = (value: unknown) => JSON.stringify(value ?? null)
  return new Set(preset ? names.filter((n) => plain(form[n]) !== plain(preset[n])) : [])
}
