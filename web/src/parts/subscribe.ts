import { api } from '../api'
import { say } from '../catalogue'

const words = say.notices

// bytesOf reads the key of an application server, which is base64url.
export function bytesOf(key: string): Uint8Array<ArrayBuffer> {
  const text = atob(key.replace(/-/g, '+').replace(/_/g, '/'))
  const out = new Uint8Array(new ArrayBuffer(text.length))
  for (let i = 0; i < text.length; i++) out[i] = text.charCodeAt(i)
  return out
}

// browserName is what a browser is called among others of the same person.
export function browserName(agent: string): string {
  const first = (names: string[]) => names.find((n) => agent.includes(n))
  const on = first(['Android', 'iPhone', 'iPad', 'Windows', 'Mac OS', 'Linux'])
  const by = first(['Firefox', 'Edg', 'Chrome', 'Safari'])?.replace('Edg', 'Edge') ?? words.browser
  return on ? `${by}, ${on}` : by
}

// subscribe has this browser be told: it asks whoever sits there, and the browser's push service.
export async function subscribe(): Promise<void> {
  if (!('serviceWorker' in navigator) || !('PushManager' in window)) throw new Error(words.cannot)
  if ((await Notification.requestPermission()) !== 'granted') throw new Error(words.notAllowed)
  const worker = await navigator.serviceWorker.register('/push.js')
  await navigator.serviceWorker.ready
  const { key } = await api.pushKey()
  const s = await worker.pushManager.subscribe({ userVisibleOnly: true, applicationServerKey: bytesOf(key) })
  const doc = s.toJSON()
  await api.subscribe({
    endpoint: s.endpoint,
    keys: { p256dh: doc.keys?.p256dh ?? '', auth: doc.keys?.auth ?? '' },
    label: browserName(navigator.userAgent),
  })
}
