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
      const by = (a, b) => value(a, column).localeCompare(value(b, column), undefined, { numeric: true });
      body.append(...rows().sort((a, b) => (up ? by(a, b) : by(b, a))));
    });
  });
  const words = document.getElementById(table.dataset.sortable);
  words?.addEventListener("input", () => {
    const wanted = words.value.toLowerCase();
    for (const row of rows()) row.hidden = !row.textContent.toLowerCase().includes(wanted);
  });
}
