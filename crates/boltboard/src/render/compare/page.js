const field = document.querySelector("input");
const said = document.querySelector("output");
const rows = [...document.querySelectorAll("tbody tr, li")];
const find = () => {
  const words = field.value.toLowerCase().split(/\s+/).filter(Boolean);
  let shown = 0;
  for (const row of rows) {
    const text = row.textContent.toLowerCase();
    row.hidden = !words.every((word) => text.includes(word));
    if (!row.hidden) shown += 1;
  }
  for (const section of document.querySelectorAll("section")) {
    section.hidden = words.length > 0 && !section.querySelector("tbody tr:not([hidden]), li:not([hidden])");
    if (words.length > 0) section.querySelectorAll("details").forEach((one) => { one.open = true; });
  }
  said.textContent = words.length > 0 ? `${shown} of ${rows.length}` : "";
};
field.addEventListener("input", find);
document.querySelector("form").addEventListener("submit", (event) => event.preventDefault());
