import { CssBaseline, ThemeProvider } from '@mui/material'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { useMemo, useState } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Route, Routes } from 'react-router'
import { Problem } from './api'
import { AccountPage } from './pages/AccountPage'
import { AuditPage } from './pages/AuditPage'
import { CausePage, CausesPage } from './pages/CausesPage'
import { CommissioningPage } from './pages/CommissioningPage'
import { FaultPage } from './pages/FaultPage'
import { FirstPage } from './pages/FirstPage'
import { MovesPage } from './pages/MovesPage'
import { NamesPage } from './pages/NamesPage'
import { NoticesPage } from './pages/NoticesPage'
import { PeoplePage } from './pages/PeoplePage'
import { ServicePage } from './pages/ServicePage'
import { SitePage } from './pages/SitePage'
import { VantagesPage } from './pages/VantagesPage'
import { Frame } from './parts/Frame'
import { SignedIn } from './parts/SignedIn'
import { themeFor, type Mode } from './theme'

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
  const theme = useMemo(() => themeFor(mode), [mode])
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
                <Route path="/account" element={<AccountPage />} />
                <Route path="/sites/:code/commissioning" element={<CommissioningPage />} />
                <Route path="/sites/:code/services/:name" element={<ServicePage />} />
                <Route path="/sites/:code" element={<SitePage />} />
                <Route path="*" element={<FirstPage />} />
              </Routes>
            </Frame>
          </SignedIn>
        </BrowserRouter>
      </QueryClientProvider>
    </ThemeProvider>
  )
}

createRoot(document.getElementById('root')!).render(<Console />)
