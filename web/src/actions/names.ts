/** A name that nothing of a list has yet: the one that is wanted, else with a number after it. */
export function freeName(wanted: string, taken: readonly string[]): string {
  let name = wanted
  for (let n = 2; taken.includes(name); n++) name = `${wanted} ${n}`
  return name
}
