// Shows what the server tells this browser, also while no page of it is open.
self.addEventListener("install", () => self.skipWaiting());

self.addEventListener("push", (event) => {
  let told = {};
  try {
    told = event.data.json();
  } catch { /* whatever came, something must be shown */ }
  event.waitUntil(self.registration.showNotification(String(told.title || "Cozy Shelf"),
    {body: String(told.text || "Something happened."), tag: String(told.id || "told"), icon: "/assets/icon.svg"}));
});

self.addEventListener("notificationclick", (event) => {
  event.notification.close();
  event.waitUntil(self.clients.matchAll({type: "window", includeUncontrolled: true}).then((all) =>
    all.length > 0 ? all[0].focus() : self.clients.openWindow("/")));
});
