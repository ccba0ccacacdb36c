"use strict";
for (const table of document.querySelectorAll("table[data-sortable]")) {
  const body = table.tBodies[0], rows = () => Array.from(body.rows);
  const value = (row, column) => row.cells[column].dataset.value ?? row.cells[column].textContent.trim();
  Array.from(table.tHead.rows[0].cells).forEach((head, column) => {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const up = head.getAttribute("aria-sort") !== "ascending";
      for (const other of table.tHead.rows[0].cells) other.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", up ? "ascending" : "descending");
      const order = new Intl.Collator(undefined, { numeric: true }).compare;
      const keyed = rows().map((row) => [value(row, column), row]);
      keyed.sort(([a], [b]) => (up ? order(a, b) : order(b, a)));
      body.append(...keyed.map(([, row]) => row));
    });
  });
  const words = document.getElementById(table.dataset.sortable);
  const count = document.getElementById(`${table.dataset.sortable}-count`);
  words?.addEventListener("input", () => {
    const wanted = words.value.toLowerCase();
    let shown = 0;
    for (const row of rows()) {
      row.hidden = !row.textContent.toLowerCase().includes(wanted);
      shown += !row.hidden;
    }
    count.textContent = wanted ? `${shown} of ${rows().length} rows` : "";
  });
}
