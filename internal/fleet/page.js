const rows = document.getElementById("links");
const filter = document.getElementById("filter");
const said = document.getElementById("said");

async function change(body) {
  const answer = await fetch("changes", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
  said.textContent = answer.ok ? "" : await answer.text();
  await draw();
}

function cell(row, text, kind) {
  const td = row.insertCell();
  td.textContent = text;
  if (kind) td.className = kind;
  return td;
}

function button(td, words, act) {
  const b = document.createElement("button");
  b.textContent = words;
  b.addEventListener("click", act);
  td.append(b, " ");
}

let before = "";
async function draw() {
  const text = await (await fetch("world")).text();
  const wanted = filter.value.trim().toLowerCase();
  if (text + wanted === before) return;
  before = text + wanted;
  rows.replaceChildren();
  for (const site of JSON.parse(text)) {
    for (const l of site.links) {
      const words = [l.site, l.link, l.provider, ...(l.fates ?? [])].join(" ").toLowerCase();
      if (wanted && !words.includes(wanted)) continue;
      const row = rows.insertRow();
      row.className = l.cut ? "cut" : "";
      cell(row, l.site);
      cell(row, l.link);
      cell(row, l.provider ?? "");
      cell(row, l.reach === "forwarded" && !l.forwards ? "forwarded, but is not" : l.reach);
      cell(row, l.latency_ms.toFixed(1), "number");
      cell(row, l.loss_percent.toFixed(1), "number");
      cell(row, l.mtu, "number");
      cell(row, l.cut ? "cut" : "carries", "state");
      const act = cell(row, "");
      const of = { site: l.site, link: l.link };
      button(act, l.cut ? "Restore" : "Cut", () => change({ do: l.cut ? "restore" : "cut", ...of }));
      button(act, l.loss_percent > 0 ? "Lose nothing" : "Lose 5 %", () => change({ do: "like", ...of, loss_percent: l.loss_percent > 0 ? 0 : 5 }));
      if (l.reach === "forwarded") button(act, l.forwards ? "Stop forwarding" : "Forward", () => change({ do: "forward", ...of, on: !l.forwards }));
      if (l.reach === "dynamic") button(act, "New address", () => change({ do: "address", ...of }));
    }
  }
}

filter.addEventListener("input", draw);
setInterval(draw, 1000);
draw();
