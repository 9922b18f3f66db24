"use strict";
(() => {
  const PIECE = 200;
  const element = (name, attributes, ...inside) => {
    const made = document.createElement(name);
    for (const [key, value] of Object.entries(attributes || {})) made.setAttribute(key, value);
    made.append(...inside);
    return made;
  };
  const number = new Intl.NumberFormat("en");
  const collator = new Intl.Collator("en", { numeric: true });

  /* A heading that sorts: the first press ascends, the next descends. */
  const sorting = (head, sort) => {
    const button = element("button", { type: "button" }, ...head.childNodes);
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      for (const other of head.parentNode.children) other.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      sort(down);
    });
  };

  /* Small tables: all rows are there. */
  for (const table of document.querySelectorAll("table[data-sortable]")) {
    const body = table.tBodies[0];
    [...table.tHead.rows[0].cells].forEach((head, column) => {
      if (!head.textContent || body.rows.length < 2) return;
      sorting(head, (down) => {
        const rows = [...body.rows];
        rows.sort((one, other) => collator.compare(one.cells[column].textContent, other.cells[column].textContent));
        body.append(...(down ? rows.reverse() : rows));
      });
    });
    if (body.rows.length > 12) filtered(table, body);
  }

  function filtered(table, body) {
    const box = element("input", { type: "search", "aria-label": "Filter the rows of this table" });
    const count = element("p", { class: "count", role: "status" });
    const rows = [...body.rows];
    const say = (shown) => { count.textContent = `${number.format(shown)} of ${number.format(rows.length)} rows`; };
    box.addEventListener("input", () => {
      const wanted = box.value.toLowerCase();
      let shown = 0;
      for (const row of rows) {
        row.hidden = !row.textContent.toLowerCase().includes(wanted);
        shown += !row.hidden;
      }
      say(shown);
    });
    say(rows.length);
    table.parentNode.before(element("div", { class: "tools" }, element("label", {}, "Filter", box)), count);
  }

  /* The rows of a tree: numbers into lists; drawn a piece at a time. */
  for (const place of document.querySelectorAll("[data-tree]")) {
    const data = JSON.parse(document.getElementById(place.dataset.tree).textContent);
    const whole = data.name.length;
    const path = (row) => `${data.directories[data.directory[row]]}/${data.name[row]}`;
    const bits = data.answers.map((cells) => cells.map((cell) => BigInt("0x" + cell.who)));
    const text = element("input", { type: "search", id: `${place.dataset.tree}-text` });
    const right = element("select", { id: `${place.dataset.tree}-right` }, element("option", { value: "" }, "any right"));
    data.rights.forEach((name, at) => right.append(element("option", { value: String(at) }, name)));
    const who = element("select", { id: `${place.dataset.tree}-who` }, element("option", { value: "" }, "whoever"));
    who.append(element("option", { value: "anyone" }, "anyone can"));
    data.users.forEach((name, at) => who.append(element("option", { value: String(at) }, name)));
    const count = element("p", { class: "count", role: "status" });
    const body = element("tbody");
    const heads = ["path", "kind", ...data.rights].map((name) => element("th", { scope: "col" }, name));
    const more = element("button", { type: "button", class: "more" });
    const table = element("table", {}, element("thead", {}, element("tr", {}, ...heads)), body);
    place.append(
      element("div", { class: "tools" },
        element("label", {}, "Path or people contain", text),
        element("label", {}, "Who", who),
        element("label", {}, "can", right)),
      count, table, more);
    const all = Array.from({ length: whole }, (_, row) => row);
    let order = all, rows = all, drawn = 0;

    const say = () => {
      const fit = rows.length === whole ? `${number.format(whole)} ${whole === 1 ? "path" : "paths"}` : `${number.format(rows.length)} of ${number.format(whole)} paths fit`;
      count.textContent = drawn < rows.length ? `${fit}; the first ${number.format(drawn)} are shown` : fit;
      more.hidden = drawn >= rows.length;
      more.textContent = `Show ${number.format(Math.min(PIECE, rows.length - drawn))} more`;
    };
    const draw = (upTo) => {
      const made = document.createDocumentFragment();
      for (; drawn < Math.min(upTo, rows.length); drawn += 1) {
        const row = rows[drawn];
        const cells = data.answers[data.answer[row]].map((cell, at) => {
          const attributes = { "data-head": data.rights[at], class: cell.anyone ? "strong" : "" };
          return element("td", attributes, cell.count < 0 ? "–" : cell.words);
        });
        made.append(element("tr", {}, element("td", { class: "path" }, path(row)), element("td", {}, data.kinds[data.kind[row]]), ...cells));
      }
      body.append(made);
      say();
    };
    const choose = () => {
      const wanted = text.value.toLowerCase();
      const rights = right.value === "" ? data.rights.map((_, at) => at) : [Number(right.value)];
      const fits = data.answers.map((cells, at) => {
        if (who.value === "" && right.value === "") return true;
        return rights.some((one) => {
          if (cells[one].count < 0) return false;
          if (who.value === "") return cells[one].count > 0;
          if (who.value === "anyone") return cells[one].anyone;
          return ((bits[at][one] >> BigInt(who.value)) & 1n) === 1n;
        });
      });
      const said = data.answers.map((cells) => cells.some((cell) => cell.words.toLowerCase().includes(wanted)));
      rows = order.filter((row) => fits[data.answer[row]]
        && (wanted === "" || said[data.answer[row]] || path(row).toLowerCase().includes(wanted)));
      body.replaceChildren();
      drawn = 0;
      draw(PIECE);
    };
    heads.forEach((head, column) => sorting(head, (down) => {
      const key = column === 0 ? null : column === 1 ? (row) => data.kinds[data.kind[row]] : (row) => data.answers[data.answer[row]][column - 2].count;
      if (key === null) {
        const keys = all.map(path);
        order = [...all].sort((one, other) => collator.compare(keys[one], keys[other]));
      } else {
        const keys = all.map(key);
        order = [...all].sort((one, other) => (keys[one] < keys[other] ? -1 : keys[one] > keys[other] ? 1 : one - other));
      }
      if (down) order.reverse();
      choose();
    }));
    let waiting = 0;
    text.addEventListener("input", () => { clearTimeout(waiting); waiting = setTimeout(choose, 120); });
    for (const one of [right, who]) one.addEventListener("change", choose);
    more.addEventListener("click", () => { const next = drawn; draw(drawn + PIECE); body.rows[next]?.scrollIntoView({ block: "nearest" }); });
    draw(PIECE);
    window.addEventListener("beforeprint", () => { if (rows.length <= 5000) draw(rows.length); });
  }
})();
