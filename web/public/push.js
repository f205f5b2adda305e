// Shows what comes by push, and opens what it is about. Words come from the server.
addEventListener('push', (e) => {
  let m
  try {
    m = e.data.json()
  } catch {
    return
  }
  // What is sent again has the same ID, and replaces what is shown.
  e.waitUntil(registration.showNotification(m.title, { body: m.body, tag: m.id, data: m.url }))
})

addEventListener('notificationclick', (e) => {
  e.notification.close()
  const to = new URL(e.notification.data || '/', location.origin)
  if (to.origin !== location.origin) return
  e.waitUntil(
    clients.matchAll({ type: 'window' }).then((list) => {
      const open = list.find((c) => new URL(c.url).origin === location.origin)
      return open ? open.focus().then((c) => c.navigate(to.href)) : clients.openWindow(to.href)
    }),
  )
})
