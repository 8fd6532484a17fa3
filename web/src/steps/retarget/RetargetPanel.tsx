/** Retarget: the same performance on another skeleton, as a clip of its own. */
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query'
import { ChevronLeft, ChevronRight } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { Link as To } from 'react-router'
import { answer, client, textOf } from '../../api/client'
import type { Clip } from '../../evaluation/model'
import {
  askSoon,
  BESIDE_M,
  PLAIN,
  type Report,
  retargetLine,
  retargetOnto,
  useRetargeting,
  type Wishes,
} from '../../sync/retargeting'
import { takeUp, write } from '../../sync/write'
import { Button, Check, Row, Select, Toggle } from '../../ui/controls'
import { counted, grouped, millimetres } from '../../ui/numbers'
import { notify, useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { Panel, Trouble } from '../Panel'
import { BringOver } from './BringOver'
import { MapTable } from './MapTable'
import { WishForm } from './WishForm'

const At = ({ frame }: { frame: number }) => (
  <button type="button" className="ml-1.5 underline" onClick={() => transport.goTo(frame)}>
    frame {frame}
  </button>
)

/** What came out, in numbers; where it is worst can be gone to. */
function Numbers({ report }: { report: Report }) {
  const worst = [...report.ends].sort((a, b) => b.largest - a.largest)[0]
  return (
    <dl data-testid="retarget-numbers">
      {worst && (
        <Row name={`Ends in proportion, ${worst.limb}`}>
          {(100 * worst.largest).toFixed(1)} % of its length
          <At frame={worst.frame} />
        </Row>
      )}
      <Row name="Slide in contact">
        {millimetres(report.foot_slide_before_mm)} → <b>{millimetres(report.foot_slide_mm)}</b>
      </Row>
      <Row name="Hips lowered by">
        {millimetres(report.hips_lowered_mm)}
        {report.hips_lowered_mm > 0.05 && <At frame={report.hips_lowered_frame} />}
      </Row>
      <Row name="Out of reach by">{millimetres(report.missed_mm)}</Row>
      {report.reordered > 0 && (
        <Row name="Different rotation order">{counted(report.reordered, 'joint')}</Row>
      )}
      {report.seconds > 0 && <Row name="Retargeted in">{report.seconds.toFixed(2)} s</Row>}
      {(report.keys_kept ?? 0) > 0 && (
        <Row name="Keys kept and added">
          {grouped(report.keys_kept!)} + {grouped(report.keys_added ?? 0)}
        </Row>
      )}
      {report.touches.map((t) => (
        <Row
          key={`${t.hand}/${t.first}`}
          name={t.part ? `${t.hand} by the ${t.part}` : 'Both hands hold'}
        >
          {t.first}–{t.last}
          <At frame={t.first} />
        </Row>
      ))}
    </dl>
  )
}

/** To where a foot or a hand is set down, or let go of: there a retargeting is judged first. */
function Stands() {
  const contacts = useBench((s) => s.contacts?.contacts)
  const frames = [...new Set((contacts ?? []).flatMap((c) => [c.first, c.last]))]
  frames.sort((a, b) => a - b)
  if (!frames.length) return null
  const step = (on: boolean) => {
    const now = transport.frame
    const next = on ? frames.find((f) => f > now) : frames.findLast((f) => f < now)
    if (next !== undefined) transport.goTo(next)
  }
  return (
    <div className="flex items-center justify-between gap-2 text-ink-2">
      {counted(frames.length, 'frame')} where contacts begin or end
      <span className="flex gap-1">
        <Button aria-label="The contact before" onClick={() => step(false)}>
          <ChevronLeft size={13} />
        </Button>
        <Button aria-label="The contact after" onClick={() => step(true)}>
          <ChevronRight size={13} />
        </Button>
      </span>
    </div>
  )
}

function useMap(clip: Clip | null, target: number | null, { joints, chains }: Wishes) {
  const own = retargetLine(clip) !== null
  return useQuery({
    queryKey: ['map', clip?.id, clip?.head.id, target, joints, chains],
    enabled: clip !== null && (target !== null || own),
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(
        client.POST('/api/clips/{clip_id}/map', {
          params: { path: { clip_id: clip!.id } },
          body: { revision: clip!.head.id, target, joints, chains },
        }),
      ),
  })
}

/** Clips that were retargeted from this one. */
function Made({ clip }: { clip: Clip }) {
  const { data } = useQuery({
    queryKey: ['retargeted', clip.id, clip.head.id],
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/retargeted', { params: { path: { clip_id: clip.id } } }),
      ),
  })
  if (!data?.length) return null
  return (
    <section aria-label="Retargeted from this clip">
      <h3 className="font-semibold">Retargeted from this clip</h3>
      <ul>
        {data.map((made) => (
          <li key={made.clip} className="flex items-center justify-between gap-2 py-0.5">
            <To to={`/clip/${made.clip}`} className="truncate underline">
              {made.name}
            </To>
            <span className="shrink-0 text-ink-3">
              {made.current ? 'as it stands' : `from revision ${made.revision}`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}

/** Where a retargeted clip comes from; when that has gone on it can be retargeted again. */
function From({ clip }: { clip: Clip }) {
  const { retargeted } = clip
  const [busy, setBusy] = useState(false)
  const queries = useQueryClient()
  if (!retargeted) return null
  const again = async () => {
    setBusy(true)
    try {
      const fresh = await answer(
        client.POST('/api/clips/{clip_id}/retarget/again', {
          params: { path: { clip_id: clip.id } },
          body: { revision: clip.head.id, request_id: crypto.randomUUID() },
        }),
      )
      takeUp(fresh)
      notify('Retargeted again from the source as it stands; your lines are on top of it.')
      void queries.invalidateQueries({ queryKey: ['map'] })
    } catch (trouble) {
      notify(`It was not retargeted again: ${textOf(trouble)}`)
    }
    setBusy(false)
  }
  return (
    <section
      aria-label="Where it comes from"
      className="rounded-[4px] border border-rule-2 px-3 py-2"
    >
      <p>
        {retargeted.target === null ? 'Made from' : 'Retargeted from'}{' '}
        {retargeted.clip ? (
          <To to={`/clip/${retargeted.clip}`} className="underline">
            {retargeted.clip_name}
          </To>
        ) : (
          retargeted.clip_name
        )}
        {retargeted.revision !== null && `, revision ${retargeted.revision}`}.
      </p>
      {retargeted.newest !== null && (
        <div className="mt-1.5 flex items-center justify-between gap-2">
          <span className="text-bad">The source has gone on since.</span>
          <Button disabled={busy} onClick={() => void again()}>
            {busy ? 'Retargeting …' : 'Retarget again'}
          </Button>
        </div>
      )}
    </section>
  )
}

/** Jobs that retarget, until they have ended. */
function useJobs() {
  const [jobs, setJobs] = useState<number[]>([])
  const queries = useQueryClient()
  const running = useQuery({
    queryKey: ['retarget jobs', jobs],
    enabled: jobs.length > 0,
    refetchInterval: 300,
    queryFn: () =>
      Promise.all(
        jobs.map((job_id) =>
          answer(client.GET('/api/jobs/{job_id}', { params: { path: { job_id } } })),
        ),
      ),
  })
  const [trouble, setTrouble] = useState<string | null>(null)
  const { data } = running
  useEffect(() => {
    if (!jobs.length || !data || data.length !== jobs.length) return
    if (data.some((j) => j.state === 'queued' || j.state === 'running')) return
    const failed = data.filter((j) => j.state === 'failed')
    setTrouble(failed.length ? failed.map((j) => j.message).join(' ') : null)
    const done = data.filter((j) => j.state === 'done')
    if (done.length) notify(`${counted(done.length, 'clip')} made; open below or on the shelf.`)
    setJobs([])
    void queries.invalidateQueries({ queryKey: ['retargeted'] })
  }, [data, jobs, queries])
  const share = data?.length ? data.reduce((sum, j) => sum + j.progress, 0) / data.length : 0
  return { jobs, setJobs, share, trouble, setTrouble }
}

/** The parameters of the line by which a clip was retargeted, as wishes. */
const wished = (clip: Clip): Wishes => ({ ...PLAIN, plant: false, ...retargetLine(clip)?.params })

export function RetargetPanel() {
  const clip = useBench((s) => s.clip)
  const { target, wishes, preview, asking, trouble, beside } = useRetargeting()
  const own = retargetLine(clip)
  const map = useMap(clip, target, wishes)
  const skeletons = useQuery({
    queryKey: ['skeletons', clip?.workspace],
    enabled: clip !== null,
    queryFn: () =>
      answer(
        client.GET('/api/workspaces/{workspace_id}/skeletons', {
          params: { path: { workspace_id: clip!.workspace } },
        }),
      ),
  })
  const [also, setAlso] = useState<number[]>([])
  const { jobs, setJobs, share, trouble: failed, setTrouble } = useJobs()
  // A retargeted clip's own line is what is changed here.
  const begun = useRef<string | null>(null)
  useEffect(() => {
    if (!clip || !own || begun.current === `${clip.id}/${clip.head.id}`) return
    begun.current = `${clip.id}/${clip.head.id}`
    useRetargeting.setState({ target: null, wishes: wished(clip), preview: null })
  }, [clip, own])
  if (!clip) return null
  const there = skeletons.data?.filter((s) => s.skeleton !== clip.skeleton || s.still) ?? []
  const named = there.find((s) => s.take === target)?.name
  const choose = async (take: number) => {
    try {
      const kept = await answer(
        client.POST('/api/clips/{clip_id}/map', {
          params: { path: { clip_id: clip.id } },
          body: { revision: clip.head.id, target: take },
        }),
      )
      retargetOnto(take, kept)
      setAlso(also.filter((t) => t !== take))
    } catch (problem) {
      setTrouble(textOf(problem))
    }
  }
  const retarget = async () => {
    setTrouble(null)
    try {
      const started = await answer(
        client.POST('/api/clips/{clip_id}/retarget', {
          params: { path: { clip_id: clip.id } },
          body: {
            revision: clip.head.id,
            targets: [target!, ...also],
            params: { ...wishes },
          },
        }),
      )
      setJobs(started.map((job) => job.id))
    } catch (problem) {
      setTrouble(textOf(problem))
    }
  }
  const change = () =>
    void write(
      {
        edit: {
          line_id: own!.line_id,
          operation: 'retarget',
          params: { ...wishes },
          scope: {},
          inputs: own!.inputs ?? null,
        },
      },
      'How it is retargeted',
    )
  return (
    <Panel
      title="Retarget"
      lead="The same performance on another skeleton. What is retargeted is a clip of its own; this one stays as it is."
      actions={
        own ? (
          <Button kind="primary" onClick={change}>
            Change how it is retargeted
          </Button>
        ) : jobs.length ? (
          <Button kind="primary" disabled>
            Retargeting … {Math.round(100 * share)} %
          </Button>
        ) : (
          <Button kind="primary" disabled={target === null} onClick={() => void retarget()}>
            {named
              ? `Retarget to ${[named, ...also.map((t) => there.find((s) => s.take === t)?.name)].join(' and ')}`
              : 'Choose a skeleton'}
          </Button>
        )
      }
    >
      <From clip={clip} />
      {failed && <Trouble>{failed}</Trouble>}
      {trouble && <Trouble>{trouble}</Trouble>}
      {!own && (
        <section aria-label="Target" className="flex flex-col gap-1.5">
          <h3 className="font-semibold">Onto</h3>
          <Select
            label="Skeleton to retarget onto"
            className="w-full"
            value={target === null ? '' : String(target)}
            options={{
              '': there.length ? 'choose a skeleton' : 'no other skeleton is on the shelf',
              ...Object.fromEntries(
                there.map((s) => [String(s.take), `${s.name}, ${counted(s.joints, 'joint')}`]),
              ),
            }}
            onChange={(take) => take && void choose(Number(take))}
          />
          {target !== null &&
            there
              .filter((s) => s.take !== target)
              .map((s) => (
                <Check
                  key={s.take}
                  on={also.includes(s.take)}
                  onChange={(on) =>
                    setAlso(on ? [...also, s.take] : also.filter((t) => t !== s.take))
                  }
                >
                  and {s.name}
                </Check>
              ))}
          {there.length === 0 && (
            <p className="text-ink-3">
              Bring in a file of the character: a BVH of one frame, or glTF, USD or clip JSON
              without motion.
            </p>
          )}
        </section>
      )}
      {(target !== null || own) && (
        <>
          <div className="flex items-center justify-between gap-2 text-ink-2">
            On the stage
            <span className="flex gap-1">
              <Toggle on={beside > 0} onClick={() => useRetargeting.setState({ beside: BESIDE_M })}>
                Beside
              </Toggle>
              <Toggle on={beside === 0} onClick={() => useRetargeting.setState({ beside: 0 })}>
                Over it
              </Toggle>
              {own && <Button onClick={askSoon}>Preview</Button>}
            </span>
          </div>
          <Stands />
          {asking && !preview && <p className="text-ink-3">Retargeting the whole clip …</p>}
          {preview && <Numbers report={preview.report} />}
          {map.data && <MapTable map={map.data} />}
          {map.data && <WishForm map={map.data} />}
        </>
      )}
      <Made clip={clip} />
      <BringOver clip={clip} />
    </Panel>
  )
}
