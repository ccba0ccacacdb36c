/* What is done inside a frame of a page: look at its players and pictures, start them, scroll.

   One function of a task and its argument; it works through open shadow roots and changes nothing but what it says. */
(task, given) => {
  const everything = function* (root, depth = 0) {
    for (const element of root.querySelectorAll("*")) {
      yield element;
      if (element.shadowRoot && depth < 8) yield* everything(element.shadowRoot, depth + 1);
    }
  };
  const all = (test) => { const found = []; for (const e of everything(document)) if (test(e)) found.push(e); return found; };
  const players = () => all((e) => e instanceof HTMLMediaElement);
  const number = (value) => (Number.isFinite(value) ? value : null);
  const kept = () => window[Symbol.for("mudlark.keys")] || { systems: [], encrypted: false };
  const words = (e) => [e.getAttribute("aria-label"), e.title, e.getAttribute("alt"), e.value, e.innerText]
    .filter((text) => typeof text === "string").join(" ").slice(0, 200).replace(/\s+/g, " ").trim();
  const visible = (e) => {
    const box = e.getBoundingClientRect(), style = getComputedStyle(e);
    return box.width > 3 && box.height > 3 && style.visibility !== "hidden" && style.display !== "none"
      && style.pointerEvents !== "none";
  };
  const PRESSABLE = "button, a, summary, [role=button], [onclick], input[type=button], input[type=submit], input[type=image]";
  const SAYS = new RegExp("(^|[^a-z])(play|watch|listen|hear|start|begin|abspielen|ansehen|anhören|lire|écouter|regarder"
    + "|reproducir|escuchar|riproduci|ascolta|afspelen)([^a-z]|$)|[▶►⏵]|(show|see|view|open|load)( \\w+)? "
    + "(film|video|movie|recording|clip|talk|sound|stream|audio)", "i");
  const NAMED = /(^|[^a-z])(big-?)?play(-?(button|btn|icon|pause|control))?([^a-z]|$)|poster|thumb.*video|video.*(cover|overlay)/i;
  const AVOID = /playlist|display|replay|store|app|share|download|subscribe|sign|log.?in|cookie|consent|accept|search|menu/i;

  const tasks = {
    players: () => players().map((e) => ({
      tag: e.tagName.toLowerCase(), src: (e.currentSrc || e.src || "").slice(0, 16000), duration: number(e.duration),
      width: e.videoWidth || 0, height: e.videoHeight || 0, time: number(e.currentTime) || 0, paused: e.paused,
      ended: e.ended, keyed: Boolean(e.mediaKeys),
    })).slice(0, 50),

    pictures: () => all((e) => e.tagName === "IMG" && (e.currentSrc || e.src)).slice(0, 5000).map((e) => {
      const box = e.getBoundingClientRect();
      return {
        src: (e.currentSrc || e.src).slice(0, 16000), top: box.top + scrollY, left: box.left + scrollX,
        width: box.width, height: box.height, natural_width: e.naturalWidth, natural_height: e.naturalHeight,
      };
    }).filter((p) => !p.src.startsWith("data:")),

    keys: () => kept(),

    /* The players that a script may feed, and how they stand. */
    fed: () => players().map((e) => ({
      src: (e.currentSrc || e.src || "").slice(0, 16000), object: Boolean(e.srcObject), time: number(e.currentTime) || 0,
      paused: e.paused, ended: e.ended, seeking: e.seeking, ready: e.readyState, error: e.error ? e.error.message || `code ${e.error.code}` : "",
    })).slice(0, 50),

    /* Play the one with this address, or that has none: muted, at a rate, and from a second on if one is given. */
    drive: () => {
      const e = players().find((one) => (given.address ? (one.currentSrc || one.src) === given.address : one.srcObject));
      if (!e) return false;
      e.muted = true;
      if (given.to !== null && Math.abs(e.currentTime - given.to) > 0.01) e.currentTime = given.to;
      if (e.playbackRate !== given.rate) e.playbackRate = given.rate;
      if (e.paused && !e.ended) e.play().catch(() => null);
      return true;
    },

    /* Start every player; one that lasts less than a minute runs fast, so that what comes after it is asked for. */
    play: () => {
      let started = 0;
      for (const e of players()) {
        if (!(e.currentSrc || e.src || e.srcObject || e.querySelector("source"))) continue;
        started += 1;
        e.muted = true;
        const hasten = () => { if (e.duration <= given.short) e.playbackRate = given.rate; };
        hasten();
        e.addEventListener("durationchange", hasten);
        if (e.paused && !e.ended) e.play().catch(() => null);
      }
      return started;
    },

    /* True while something short plays; that runs fast too, whoever started it. */
    playing: () => {
      const waits = (e) => e.readyState <= 2 && (e.srcObject || (e.currentSrc || "").startsWith("blob:"));  // for a script
      const short = players().filter((e) => !e.paused && !e.ended && !e.error && e.duration <= given.short && !waits(e));
      for (const e of short) if (e.playbackRate !== given.rate) e.playbackRate = given.rate;
      return short.length > 0;
    },

    /* The control that most likely starts the media, as [points, element]. */
    control: () => {
      let best = null, most = 4;
      for (const e of everything(document)) {
        if (e instanceof HTMLMediaElement || e === document.body || e === document.documentElement) continue;
        const named = `${e.id} ${typeof e.className === "string" ? e.className : ""}`;
        const pressable = e.matches(PRESSABLE);
        if (!pressable && !NAMED.test(named)) continue;
        const text = words(e);
        let points = 0;
        if (pressable) points += 2;
        if (SAYS.test(text)) points += text.length < 40 ? 7 : 3;
        if (NAMED.test(named)) points += 4;
        if (AVOID.test(`${text} ${named}`)) points -= 6;
        const target = e.tagName === "A" ? e.getAttribute("href") || "" : "";
        if (target && !target.startsWith("#") && !/^javascript:/i.test(target)) points -= 8;
        if (points > most && visible(e)) { best = e; most = points; }
      }
      return best;
    },
    /* The element that a text or selector means. */
    find: () => {
      const wanted = given.trim().toLowerCase();
      const named = all((e) => e.matches(PRESSABLE) && words(e).toLowerCase() === wanted && visible(e))[0]
        || all((e) => e.matches(PRESSABLE) && words(e).toLowerCase().includes(wanted) && visible(e))[0]
        || all((e) => !e.children.length && (e.innerText || "").trim().toLowerCase() === wanted && visible(e))[0];
      if (named) return named;
      try { return all((e) => e.matches(given))[0] || null; } catch { return null; }
    },

    /* The drop-down or radio button of a name or label. */
    choice: (name = given) => {
      const wanted = name.toLowerCase();
      const labelled = (e) => [...(e.labels || [])].map((l) => l.firstChild && l.firstChild.textContent || l.textContent);
      const called = (e) => [e.name, e.id, e.getAttribute("aria-label"), ...labelled(e)]
        .filter((text) => typeof text === "string").map((text) => text.trim().toLowerCase().replace(/:$/, ""));
      const fits = (e) => e.matches("select, input[type=radio]") && !e.disabled;
      return all((e) => fits(e) && called(e).includes(wanted))[0] || null;
    },
    /* Its options, each with label and value; and the element that takes one of them. */
    options: () => {
      const e = tasks.choice();
      if (e.tagName === "SELECT") return [...e.options].map((o) => [o.text.trim(), o.value]);
      return all((r) => r.type === "radio" && r.name === e.name)
        .map((r) => [(r.labels[0] ? r.labels[0].textContent : r.value).trim(), r.value]);
    },
    option: () => {
      const e = tasks.choice(given[0]);
      return e.tagName === "SELECT" ? e : all((r) => r.type === "radio" && r.name === e.name && r.value === given[1])[0];
    },
    asked: () => all((e) => e.matches("select") && visible(e)).map((e) => e.name || e.id).filter(Boolean).slice(0, 12),
    /* What a choice is sent with, once it is made: a visible button of the same form. */
    sender: () => all((e) => e.matches("form button, form input[type=submit]") && e.type === "submit" && visible(e)
      && !e.disabled && e.form && !e.form.querySelector("input[type=password], input[type=file]"))[0] || null,

    controls: () => all((e) => e.matches("button, [role=button], input[type=button]") && visible(e))
      .map(words).filter(Boolean).slice(0, 12),

    /* What lies over the page and takes every press: its words, and those on its buttons. */
    layer: () => {
      const over = new Map();
      for (const [across, down] of [[0.5, 0.5], [0.5, 0.75], [0.25, 0.5], [0.75, 0.5], [0.5, 0.25]]) {
        let e = document.elementFromPoint(innerWidth * across, innerHeight * down), found = null;
        for (; e && e !== document.body && e !== document.documentElement; e = e.parentElement || e.getRootNode().host) {
          const modal = e.matches("dialog[open], [role=dialog], [role=alertdialog], [aria-modal=true]");
          if (modal || getComputedStyle(e).position === "fixed") found = e;
        }
        if (found) over.set(found, (over.get(found) || 0) + 1);
      }
      const [layer, hits] = [...over].sort((a, b) => b[1] - a[1])[0] || [null, 0];
      if (!layer || hits < 3 && !layer.matches("dialog[open], [aria-modal=true]")) return null;
      const inside = [...everything(layer), ...(layer.shadowRoot ? everything(layer.shadowRoot) : [])];
      if (inside.some((e) => e instanceof HTMLMediaElement)) return null;
      const buttons = inside.filter((e) => e.matches(PRESSABLE) && visible(e)).map(words).filter(Boolean);
      return { words: (layer.innerText || "").replace(/\s+/g, " ").trim().slice(0, 200), buttons: [...new Set(buttons)].slice(0, 12) };
    },

    /* One step down in everything that scrolls; true if anything moved. What the page does about it begins when it is
       drawn, which a busy machine does late. */
    scroll: () => {
      const down = (e) => {
        const before = e.scrollTop;
        e.scrollBy({ top: Math.max(200, e.clientHeight * 0.85), behavior: "instant" });
        return Math.abs(e.scrollTop - before) > 1;
      };
      let moved = down(document.scrollingElement || document.documentElement);
      for (const e of everything(document)) {
        if (e.scrollHeight > e.clientHeight + 20 && e.clientHeight > 100
          && /auto|scroll/.test(getComputedStyle(e).overflowY)) moved = down(e) || moved;
      }
      if (window !== top) return moved;
      return new Promise((done) => {
        setTimeout(() => done(moved), 1000);
        requestAnimationFrame(() => requestAnimationFrame(() => done(moved)));
      });
    },
  };
  return tasks[task]();
}
