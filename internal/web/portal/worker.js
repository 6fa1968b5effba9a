"use strict";
// Lets the page be installed, tells that a sign-in waits, and opens the page for it.
self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (e) => e.waitUntil(self.clients.claim()));
self.addEventListener("fetch", () => {});
self.addEventListener("push", (e) => {
  let text = {};
  try {
    text = e.data.json();
  } catch {
    // whatever it is, something waits
  }
  e.waitUntil(
    self.registration.showNotification(text.title ?? "…", { body: text.body ?? "", tag: "ask", icon: "/icon.svg" }),
  );
});
self.addEventListener("notificationclick", (e) => {
  e.notification.close();
  e.waitUntil(
    self.clients.matchAll({ type: "window", includeUncontrolled: true }).then((list) => {
      const open = list.find((c) => new URL(c.url).pathname === "/phone");
      return open ? open.focus() : self.clients.openWindow("/phone");
    }),
  );
});
