import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { App } from './App'
import { reportErrors } from './api/client'
import { loadSession } from './session/session'
import './ui/app.css'

reportErrors()
void loadSession()
createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <App />
  </StrictMode>,
)
