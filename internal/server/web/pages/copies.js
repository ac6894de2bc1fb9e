// Asks for a copy of a film that is made at quiet hours, and says what became of it.
(() => {
  for (const line of document.querySelectorAll(".copies")) {
    const button = line.querySelector("button");
    if (!button) continue;
    button.addEventListener("click", async () => {
      button.disabled = true;
      let text = "The server does not answer; try again later.";
      try {
        const answer = await fetch(`/api/v1/files/${line.dataset.file}/prepared`, {
          method: "POST", headers: { "Content-Type": "application/json" }, body: "{}",
        });
        const said = await answer.json();
        text = answer.ok ? `Copy of ${said.height} lines: waiting for quiet hours` : `${said.problem}: ${said.why}`;
      } catch {
        button.disabled = false;
      }
      const told = document.createElement("span");
      told.textContent = text;
      told.setAttribute("role", "status");
      for (const old of line.querySelectorAll("[role=status]")) old.remove();
      line.append(told);
      if (button.disabled) button.remove();
    });
  }
})();
