import { expect, test } from 'vitest'
import { deviations, type Form, inFormat } from './form'

const form: Form = {
  format: 'glb',
  rate: null,
  up_axis: null,
  unit: null,
  root: 'hips',
  floor_joint: 'Root',
  without: [],
  joints: [],
  plain_names: false,
  prefix: '',
  renamed: {},
  props: true,
  partners: false,
  body: 'own',
  within_deg: 0.25,
  within_mm: 0.5,
  fewest: true,
  files: 'whole',
  pattern: '{character}',
  folder: '',
}

test('another format keeps what it can hold, and no more', () => {
  const crate = inFormat(form, 'usdc')
  expect([crate.format, crate.within_deg, crate.fewest]).toEqual(['usdc', null, false])
  const table = { ...crate, format: 'bvh' as const, up_axis: 'x' as const, unit: 'cm' as const }
  expect(inFormat(table, 'usda').up_axis).toBe(null)
  expect(inFormat(table, 'usda').unit).toBe('cm')
  expect(inFormat(table, 'gltf').unit).toBe(null)
  const together = { ...form, files: 'together' as const }
  expect(inFormat(together, 'gltf').files).toBe('together')
  expect(inFormat(together, 'usdc').files).toBe('whole')
})

test('what deviates from a preset is told by its fields', () => {
  expect(deviations(form, undefined).size).toBe(0)
  expect(deviations(form, { ...form }).size).toBe(0)
  const { rate: _, ...bare } = form
  expect(deviations(form, bare).size).toBe(0)
  const other = { ...form, root: 'floor' as const, without: ['ends' as const] }
  expect([...deviations(other, form)].sort()).toEqual(['root', 'without'])
})
