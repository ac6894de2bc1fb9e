// Asks who watches along, and tells the server. The last sofa is proposed.
(() => {
  const player = document.getElementById("player"), box = document.getElementById("sofa");
  if (!player || !box) return;
  const url = `/api/v1/files/${player.dataset.file}/sofa`;
  const list = box.querySelector("fieldset"), told = box.querySelector("[role=status]");
  const again = box.querySelector("button[value=again]"), may = box.querySelector("button[value=may]");
  const chosen = () => [...list.querySelectorAll("input:checked")].map((x) => x.value);
  const shown = (sofa) => {
    box.querySelector("summary").textContent = sofa.members.length ? `With ${sofa.members.join(", ")}` : "Who is watching?";
    again.hidden = sofa.proposed.length === 0;
    again.textContent = `With ${sofa.proposed.join(", ")}, as the last time`;
    again.dataset.names = JSON.stringify(sofa.proposed);
    list.replaceChildren(...sofa.people.map((name) => {
      const label = document.createElement("label"), tick = document.createElement("input");
      tick.type = "checkbox";
      tick.value = name;
      tick.checked = sofa.members.includes(name);
      label.append(tick, " ", name);
      return label;
    }));
    box.hidden = sofa.people.length === 0;
  };
  const ask = async (body) => {
    const answer = await fetch(url, body ? {
      method: "PUT", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body),
    } : {});
    const sofa = await answer.json();
    may.hidden = true;
    told.textContent = "";
    if (answer.ok) shown(sofa);
    else if (body) {
      told.textContent = `${sofa.problem[0].toUpperCase()}${sofa.problem.slice(1)}: ${sofa.why}.`;
      may.hidden = answer.status !== 403 || !sofa.fix.includes("say that they may");
    }
    return answer.ok;
  };
  const sit = (names, theyMay) => ask({ members: names, they_may: theyMay })
    .catch(() => { told.textContent = "The server does not answer; try again."; });
  again.addEventListener("click", () => sit(JSON.parse(again.dataset.names), false));
  box.querySelector("button[value=these]").addEventListener("click", () => sit(chosen(), false));
  may.addEventListener("click", () => sit(chosen().length ? chosen() : JSON.parse(again.dataset.names), true));
  ask().catch(() => { /* it is asked again with the next page */ });
})();
