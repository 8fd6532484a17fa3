/** What a card of the shelf carries where it is dragged: a take's number, under this type. */
export const CARRIED = 'text/x-lean-take'
