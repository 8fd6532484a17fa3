/** What has just been put into the bin, told to the shelf that opens next. */
export interface Binned {
  kind: 'take' | 'clip'
  id: number
  name: string
  workspace: number
}
