/** Sign-in, shelf, bench. */
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { Tooltip } from 'radix-ui'
import { BrowserRouter, Navigate, Route, Routes } from 'react-router'
import { BatchPage } from './batch/BatchPage'
import { Bench } from './bench/Bench'
import { HandoverPage } from './handover/HandoverPage'
import { SignIn } from './session/SignIn'
import { useSession } from './session/session'
import { Shelf } from './shelf/Shelf'
import { StudioPage } from './studio/StudioPage'

const queries = new QueryClient({ defaultOptions: { queries: { retry: 1 } } })

export function App() {
  const user = useSession((s) => s.user)
  const runsStudio = useSession((s) => s.runsStudio)
  if (user === undefined) return null
  if (user === null) return <SignIn />
  return (
    <QueryClientProvider client={queries}>
      <Tooltip.Provider>
        <BrowserRouter>
          <Routes>
            <Route path="/" element={<Shelf />} />
            <Route path="/clip/:clipId" element={<Bench />} />
            <Route path="/batch/:batchId" element={<BatchPage />} />
            <Route path="/delivery/:handoverId" element={<HandoverPage />} />
            {runsStudio && <Route path="/studio" element={<StudioPage />} />}
            <Route path="*" element={<Navigate to="/" replace />} />
          </Routes>
        </BrowserRouter>
      </Tooltip.Provider>
    </QueryClientProvider>
  )
}
