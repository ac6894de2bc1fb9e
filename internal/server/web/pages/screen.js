// Asks what became of the code that this screen shows, and goes in when it was confirmed.
(() => {
  const shown = document.querySelector(".code");
  const told = shown.querySelector("[role=status]");
  let every = 5000;
  const ask = async () => {
    try {
      const answer = await fetch("/screen/wait", {
        method: "POST", headers: { "Content-Type": "application/x-www-form-urlencoded" },
        body: new URLSearchParams({ secret: shown.dataset.secret }),
      });
      if (answer.status === 403) {
        told.textContent = "Whoever confirmed it may not watch from here.";
        return;
      }
      const state = answer.ok ? (await answer.json()).state : "waiting";
      if (state === "granted") {
        location.replace("/");
        return;
      }
      if (state === "refused" || state === "over") {
        told.textContent = state === "refused" ? "It was refused." : "Its ten minutes are over. Ask for another code.";
        shown.classList.add("off");
        return;
      }
      if (state === "too soon") every += 5000;
    } catch { /* the network is away for a moment */ }
    setTimeout(ask, every);
  };
  setTimeout(ask, every);
})();
