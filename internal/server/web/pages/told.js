// Has this browser told of what concerns its member: it subscribes at its own push service, and gives the server the
// address there. Without HTTPS, or without a push service, a browser cannot.
(() => {
  const form = document.querySelector("form[data-push]");
  if (!form) return;
  const say = (text) => { form.querySelector("[role=status]").textContent = text; };
  const button = form.querySelector("button");
  if (!("serviceWorker" in navigator) || !("PushManager" in window) || !("Notification" in window)) {
    button.hidden = true;
    say(isSecureContext ? "This browser cannot be told." : "To have this browser told, open this page by a name, over HTTPS.");
    return;
  }
  const bytes = (text) => Uint8Array.from(atob(text.replace(/-/g, "+").replace(/_/g, "/")), (c) => c.charCodeAt(0));
  const text = (buffer) => btoa(String.fromCharCode(...new Uint8Array(buffer))).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");
  const worker = () => navigator.serviceWorker.register("/assets/worker.js");

  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    button.disabled = true;
    try {
      if (form.dataset.push === "") { // it is told, and shall not be any longer
        const is = await (await worker()).pushManager.getSubscription();
        await is?.unsubscribe();
      } else {
        if (await Notification.requestPermission() !== "granted") {
          say("The browser was not allowed to show anything. Its settings for this page say so.");
          return;
        }
        const at = await worker();
        const old = await at.pushManager.getSubscription();
        await old?.unsubscribe(); // it may be another member's, or of another server at this address
        const made = await Promise.race([
          at.pushManager.subscribe({userVisibleOnly: true, applicationServerKey: bytes(form.dataset.push)}),
          new Promise((_, fail) => setTimeout(() => fail(new Error("it does not answer")), 20000)),
        ]);
        form.elements.endpoint.value = made.endpoint;
        form.elements.key.value = text(made.getKey("p256dh"));
        form.elements.secret.value = text(made.getKey("auth"));
      }
      form.submit();
    } catch (problem) {
      say("The browser did not reach its push service: " + problem.message);
    } finally {
      button.disabled = false;
    }
  });
})();
