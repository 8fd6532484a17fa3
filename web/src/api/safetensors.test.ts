import { describe, expect, it } from 'vitest'
import { readMessage } from './safetensors'

function built(header: object, tail: ArrayBuffer): ArrayBuffer {
  let text = JSON.stringify(header)
  while ((8 + text.length) % 8) text += ' '
  const out = new Uint8Array(8 + text.length + tail.byteLength)
  new DataView(out.buffer).setBigUint64(0, BigInt(text.length), true)
  out.set(new TextEncoder().encode(text), 8)
  out.set(new Uint8Array(tail), 8 + text.length)
  return out.buffer
}

describe('numeric messages', () => {
  it('arrays are views of the buffer, with their shapes and what is said about them', () => {
    const numbers = Float64Array.from([1.5, -2, 3])
    const buffer = built(
      {
        __metadata__: { about: '{"frames":3}' },
        a: { dtype: 'F64', shape: [3, 1], data_offsets: [0, 24] },
      },
      numbers.buffer,
    )
    const message = readMessage(buffer)
    expect(message.about).toEqual({ frames: 3 })
    expect(message.arrays.get('a')!.shape).toEqual([3, 1])
    expect([...message.arrays.get('a')!.data]).toEqual([1.5, -2, 3])
    expect(message.arrays.get('a')!.data.buffer).toBe(buffer)
  })

  it('a message without arrays is only what it says', () => {
    const message = readMessage(built({}, new ArrayBuffer(0)))
    expect(message.arrays.size).toBe(0)
    expect(message.about).toEqual({})
  })
})
