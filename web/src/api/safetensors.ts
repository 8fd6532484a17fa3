/** Numeric answers: eight bytes of length, a JSON header, then aligned little-endian arrays. */

export type NumericArray =
  | Float64Array
  | Float32Array
  | Int32Array
  | BigInt64Array
  | Uint16Array
  | Uint8Array

export interface Message {
  arrays: Map<string, { data: NumericArray; shape: number[] }>
  about: Record<string, unknown>
}

const KINDS = {
  F64: Float64Array,
  F32: Float32Array,
  I32: Int32Array,
  I64: BigInt64Array,
  U16: Uint16Array,
  U8: Uint8Array,
} as const

interface Entry {
  dtype: keyof typeof KINDS
  shape: number[]
  data_offsets: [number, number]
}

/** Typed arrays are views on the buffer, not copies. */
export function readMessage(buffer: ArrayBuffer): Message {
  const length = Number(new DataView(buffer).getBigUint64(0, true))
  const text = new TextDecoder().decode(new Uint8Array(buffer, 8, length))
  const { __metadata__: metadata, ...entries } = JSON.parse(text) as Record<string, Entry> & {
    __metadata__?: { about?: string }
  }
  const arrays: Message['arrays'] = new Map()
  for (const [name, entry] of Object.entries(entries)) {
    const Kind = KINDS[entry.dtype]
    const [from, to] = entry.data_offsets
    const count = (to - from) / Kind.BYTES_PER_ELEMENT
    arrays.set(name, { data: new Kind(buffer, 8 + length + from, count), shape: entry.shape })
  }
  return { arrays, about: JSON.parse(metadata?.about ?? '{}') as Record<string, unknown> }
}
