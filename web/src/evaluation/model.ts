/** The clip and its parts, as the server describes them. */
import type { Schemas } from '../api/client'

export type Clip = Schemas['ClipOut']
export type Finding = Schemas['FindingOut']
export type Contact = Schemas['ContactOut']
export type Mark = Schemas['MarkOut']
export type Plant = Schemas['PlantOut']
export type Scope = Schemas['ScopeIO']
