"use strict";
// Filters by typing, sorts by heads, and shows only rows that differ or lack something.
for (const holder of document.querySelectorAll(".table")) {
  const body = holder.querySelector("tbody");
  const rows = [...body.rows];
  const shown = () => {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    let count = 0;
    for (const row of rows) {
      const text = row.textContent.toLowerCase();
      const fits = words.every((word) => text.includes(word)) && wanted.every(([box, key]) => !box.checked || key in row.dataset);
      row.hidden = !fits;
      count += fits ? 1 : 0;
    }
    told.textContent = count === rows.length ? `${count} rows` : `${count} of ${rows.length} rows`;
  };
  const tools = document.createElement("div");
  tools.className = "tools";
  const search = document.createElement("input");
  search.type = "search";
  search.placeholder = "Filter";
  search.setAttribute("aria-label", "Filter rows");
  search.addEventListener("input", shown);
  tools.append(search);
  const wanted = [];
  for (const [key, label] of [["differs", "only what differs"], ["lacks", "only what is missing or wrong"]]) {
    if (!rows.some((row) => key in row.dataset)) continue;
    const box = document.createElement("input");
    box.type = "checkbox";
    box.addEventListener("change", shown);
    const around = document.createElement("label");
    around.append(box, ` ${label}`);
    tools.append(around);
    wanted.push([box, key]);
  }
  const told = document.createElement("span");
  told.className = "quiet";
  told.setAttribute("role", "status");
  tools.append(told);
  if (rows.length > 5) holder.querySelector(".scroll").before(tools);
  [...holder.querySelectorAll("thead th")].forEach((head, at) => {
    const button = document.createElement("button");
    button.textContent = head.textContent;
    button.addEventListener("click", () => {
      const up = head.getAttribute("aria-sort") !== "ascending";
      for (const other of holder.querySelectorAll("thead th")) other.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", up ? "ascending" : "descending");
      const text = (row) => row.cells[at].textContent;
      rows.sort((one, other) => (up ? 1 : -1) * text(one).localeCompare(text(other), "en", { numeric: true }));
      body.append(...rows);
    });
    head.replaceChildren(button);
  });
  shown();
}
