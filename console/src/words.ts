// Numbers, sizes and times as people read them.
const whole = new Intl.NumberFormat('en')

export const number = (n: number) => whole.format(n)

export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`
  const units = ['kB', 'MB', 'GB', 'TB']
  let n = bytes / 1000
  let u = 0
  while (n >= 1000 && u < units.length - 1) {
    n /= 1000
    u++
  }
  return `${n.toFixed(n < 10 ? 1 : 0)} ${units[u]}`
}

// underWay says how far a run has got.
export function underWay(p: { balance: { in: number }; stage: string; about: number; file: number; files: number }): string {
  const which = p.files > 1 ? `file ${number(p.file)} of ${number(p.files)}, ` : ''
  const says = which + (p.about ? `record ${number(p.balance.in)} of about ${number(p.about)}` : many(p.balance.in, 'record'))
  return p.stage === 'ordering' ? `${says} read, to be put into order` : says
}

// ago is how long ago it was, in the largest unit that says something.
export function ago(iso: string): string {
  const minutes = Math.max(0, (Date.now() - Date.parse(iso)) / 60_000)
  const [n, unit] = minutes < 1 ? [0, ''] : minutes < 90 ? [minutes, 'minute'] : minutes < 48 * 60 ? [minutes / 60, 'hour'] : [minutes / 1440, 'day']
  return unit ? `${many(Math.round(n), unit)} ago` : 'just now'
}

const two = (n: number) => String(n).padStart(2, '0')

export function clock(iso: string, fraction = false): string {
  const d = new Date(iso)
  return `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}${fraction ? `.${String(d.getMilliseconds()).padStart(3, '0')}` : ''}`
}

export function day(iso: string): string {
  const d = new Date(iso)
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())}`
}

// offset is how far a time's zone is from UTC, such as +01:00: as it is written, or with a Date
// that of this browser.
export function offset(time: string | Date): string {
  if (typeof time === 'string') return /Z$/.test(time) ? '+00:00' : time.slice(-6)
  const minutes = -time.getTimezoneOffset()
  return `${minutes < 0 ? '-' : '+'}${two(Math.floor(Math.abs(minutes) / 60))}:${two(Math.abs(minutes) % 60)}`
}

// zone names the time zone in which all times are shown.
const named = Intl.DateTimeFormat().resolvedOptions().timeZone.replaceAll('_', ' ')
export const zone = named === 'UTC' ? named : `${named} ${offset(new Date())}`

// moment is the time, with the day if it is not today.
export function moment(iso: string): string {
  return day(iso) === day(new Date().toISOString()) ? clock(iso) : `${day(iso)} ${clock(iso)}`
}

export function between(from: string, to: string): string {
  const ms = Date.parse(to) - Date.parse(from)
  return ms < 10_000 ? `${number(Math.max(0, ms))} ms` : `${(ms / 1000).toFixed(1)} s`
}

export const many = (n: number, what: string) => `${number(n)} ${what}${n === 1 ? '' : 's'}`

// passText says what it means to let others pass the pickup that holds a lane.
export const passText = (lane: { lane: string; behind: number }) =>
  `What waits behind it in the lane ${lane.lane} goes on${lane.behind ? ` (${number(lane.behind)} now)` : ''}, and reaches the receiver before it. It goes on waiting itself.`
