// Places in a text are bytes; what is on the screen are characters.
import type { Row } from '../../client/samples'

const encoder = new TextEncoder()

// widths of a row's characters: those of UTF-8 if they come to the bytes that it has, else
// one byte each, or as near as can be said.
function scale(row: Row): (text: string) => number {
  if (encoder.encode(row.text).length === row.bytes) return (text) => encoder.encode(text).length
  const each = row.text.length ? row.bytes / row.text.length : 1
  return (text) => Math.round(text.length * each)
}

// byteAt is the byte of a row's nth character.
export const byteAt = (row: Row, char: number) => row.offset + scale(row)(row.text.slice(0, char))

// charAt is the character of a row that holds a byte.
export function charAt(row: Row, byte: number): number {
  const wide = scale(row)
  let low = 0
  let high = row.text.length
  while (low < high) {
    const middle = (low + high) >> 1
    if (row.offset + wide(row.text.slice(0, middle + 1)) > byte) high = middle
    else low = middle + 1
  }
  return low
}
