import { CssBaseline, ThemeProvider } from '@mui/material'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { lazy, Suspense, useEffect, useMemo, useState, type ComponentType } from 'react'
import { flushSync } from 'react-dom'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Route, Routes } from 'react-router'
import { Problem } from './api'
import { FirstPage } from './pages/FirstPage'
import { Frame } from './parts/Frame'
import { SignedIn } from './parts/SignedIn'
import { themeFor, type Mode } from './theme'

// The pages behind the first one are fetched when somebody goes there.
const page = <K extends string>(name: K, from: () => Promise<Record<K, ComponentType>>) =>
  lazy(async () => ({ default: (await from())[name] }))
const AccountPage = page('AccountPage', () => import('./pages/AccountPage'))
const AuditPage = page('AuditPage', () => import('./pages/AuditPage'))
const CommissioningPage = page('CommissioningPage', () => import('./pages/CommissioningPage'))
const FaultPage = page('FaultPage', () => import('./pages/FaultPage'))
const FilesPage = page('FilesPage', () => import('./pages/FilesPage'))
const MovesPage = page('MovesPage', () => import('./pages/MovesPage'))
const NamesPage = page('NamesPage', () => import('./pages/NamesPage'))
const NoticesPage = page('NoticesPage', () => import('./pages/NoticesPage'))
const PeoplePage = page('PeoplePage', () => import('./pages/PeoplePage'))
const ServicePage = page('ServicePage', () => import('./pages/ServicePage'))
const SettingsPage = page('SettingsPage', () => import('./pages/SettingsPage'))
const SitePage = page('SitePage', () => import('./pages/SitePage'))
const VantagesPage = page('VantagesPage', () => import('./pages/VantagesPage'))
const CausesPage = page('CausesPage', () => import('./pages/CausesPage'))
const CausePage = page('CausePage', () => import('./pages/CausesPage'))

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      refetchInterval: 60000,
      staleTime: 1000,
      retry: (n, err) => n < 3 && !(err instanceof Problem && err.status >= 400 && err.status < 500),
    },
  },
})

function remembered(): Mode {
  const kept = localStorage.getItem('inkpost.mode')
  if (kept === 'day' || kept === 'night') return kept
  return matchMedia('(prefers-color-scheme: dark)').matches ? 'night' : 'day'
}

function Console() {
  const [mode, setMode] = useState<Mode>(remembered)
  const [printing, setPrinting] = useState(false)
  useEffect(() => {
    const paper = matchMedia('print')
    const turned = (e: MediaQueryListEvent) => flushSync(() => setPrinting(e.matches))
    paper.addEventListener('change', turned)
    return () => paper.removeEventListener('change', turned)
  }, [])
  const theme = useMemo(() => themeFor(mode, printing), [mode, printing])
  const turn = () => {
    const next = mode === 'day' ? 'night' : 'day'
    localStorage.setItem('inkpost.mode', next)
    setMode(next)
  }
  return (
    <ThemeProvider theme={theme}>
      <CssBaseline />
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <SignedIn>
            <Frame mode={mode} turn={turn}>
              <Suspense>
                <Routes>
                  <Route path="/" element={<FirstPage />} />
                  <Route path="/names" element={<NamesPage />} />
                  <Route path="/moves" element={<MovesPage />} />
                  <Route path="/vantages" element={<VantagesPage />} />
                  <Route path="/causes" element={<CausesPage />} />
                  <Route path="/causes/:cause" element={<CausePage />} />
                  <Route path="/faults/:id" element={<FaultPage />} />
                  <Route path="/notices" element={<NoticesPage />} />
                  <Route path="/people" element={<PeoplePage />} />
                  <Route path="/audit" element={<AuditPage />} />
                  <Route path="/settings" element={<SettingsPage />} />
                  <Route path="/account" element={<AccountPage />} />
                  <Route path="/files" element={<FilesPage />} />
                  <Route path="/sites/:code/commissioning" element={<CommissioningPage />} />
                  <Route path="/sites/:code/services/:name" element={<ServicePage />} />
                  <Route path="/sites/:code" element={<SitePage />} />
                  <Route path="*" element={<FirstPage />} />
                </Routes>
              </Suspense>
            </Frame>
          </SignedIn>
        </BrowserRouter>
      </QueryClientProvider>
    </ThemeProvider>
  )
}

createRoot(document.getElementById('root')!).render(<Console />)
