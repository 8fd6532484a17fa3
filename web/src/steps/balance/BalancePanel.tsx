/** Balance: flights as gravity and momentum have them; each is listed with how far it is off. */
import { useQuery } from '@tanstack/react-query'
import { openFor } from '../../actions/findings'
import { answer, client, type Schemas } from '../../api/client'
import type { Clip } from '../../evaluation/model'
import { degrees, millimetres } from '../../ui/numbers'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { OperationCard } from '../operation/OperationCard'
import { Panel } from '../Panel'

const useFlights = (clip: Clip | null) =>
  useQuery({
    queryKey: ['flights', clip?.id, clip?.head.id],
    enabled: clip !== null,
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/flights', {
          params: { path: { clip_id: clip!.id }, query: { revision: clip!.head.id } },
        }),
      ),
  })

function Flight({ flight }: { flight: Schemas['FlightOut'] }) {
  const { first, last, gravity, arc_mm, spin_deg } = flight
  const show = () => {
    transport.setRange(first, last)
    transport.goTo(first)
  }
  return (
    <tr className="border-rule border-t">
      <td>
        <button type="button" className="num py-1 text-left hover:underline" onClick={show}>
          {first} – {last}
        </button>
      </td>
      <td className="num text-right">{gravity.toFixed(1)} m/s²</td>
      <td className="num text-right">{millimetres(arc_mm)}</td>
      <td className="num text-right">{spin_deg === null ? '–' : degrees(spin_deg)}</td>
    </tr>
  )
}

function Flights({ clip }: { clip: Clip | null }) {
  const flights = useFlights(clip)
  if (flights.isError) return <p className="text-bad">The flights could not be measured.</p>
  if (!flights.data) return <p className="text-ink-3">Looking for flights …</p>
  if (!flights.data.length)
    return (
      <p className="text-ink-2">
        Nothing flies in this clip: at some contact the figure always stands or holds on.
      </p>
    )
  return (
    <table className="w-full" aria-label="Flights">
      <thead className="text-ink-3">
        <tr>
          {['flight', 'falls at', 'off its path', 'spin off'].map((name, k) => (
            <th key={name} scope="col" className={`font-normal ${k ? 'text-right' : 'text-left'}`}>
              {name}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {flights.data.map((flight) => (
          <Flight key={flight.first} flight={flight} />
        ))}
      </tbody>
    </table>
  )
}

export function BalancePanel() {
  const clip = useBench((s) => s.clip)
  const findings = useBench((s) => s.findings)
  return (
    <Panel
      title="Balance"
      lead="In the air a body falls as gravity has it, and turns no more and no less than it did at take-off. What is off is put right by a layer called weight."
    >
      <Flights clip={clip} />
      <OperationCard name="balance" count={openFor(findings, 'balance') ?? 0} hidden={['new_id']} />
    </Panel>
  )
}
