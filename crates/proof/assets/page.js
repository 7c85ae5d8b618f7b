// What a page of proof does once it is open. Nothing here asks any network for anything.
"use strict";
(() => {
  /** @typedef {{buffer: AudioBuffer, looped: [number, number] | null, lufs: number | null}} Sound */

  const all = /** @type {HTMLElement[]} */ ([...document.querySelectorAll(".card")]);
  const rows = /** @type {HTMLTableRowElement[]} */ ([...document.querySelectorAll("#table tbody tr")]);
  /** What has this name: the page has it, of the kind that is meant. @param {string} id @returns {any} */
  const the = (id) => document.getElementById(id);
  const body = document.body;
  /** Each card's row. */
  const rowOfCard = new Map(all.map((card, at) => [card, rows[at]]));
  const rowOf = (/** @type {HTMLElement} */ card) => /** @type {HTMLTableRowElement} */ (rowOfCard.get(card));
  body.classList.add("live");

  /** The filters of a small loudspeaker; the page has them in this name's place. */
  const SMALL = (/** @type {unknown} */ ([]));

  // --- Sounds -------------------------------------------------------------------------------------------------

  /** Contexts by rate: one of another rate would resample, and a loop would no longer be a whole number of frames. */
  const contexts = new Map();
  /** @param {number} rate @returns {AudioContext} */
  const contextOf = (rate) => {
    if (!contexts.has(rate)) {
      try {
        contexts.set(rate, new AudioContext({ sampleRate: rate }));
      } catch {
        contexts.set(rate, new AudioContext());
      }
    }
    return contexts.get(rate);
  };

  /** What scripts beside the page hand over, by their names. */
  const arrived = new Map();
  /** @type {any} */ (window).needleSound = (/** @type {string} */ name, /** @type {string} */ text) => arrived.get(name)?.(text);

  /** @param {HTMLElement} draw @returns {Promise<ArrayBuffer>} */
  const bytesOf = async (draw) => {
    let text = "";
    const script = draw.dataset.script;
    if (script) {
      text = await new Promise((done, fail) => {
        const element = document.createElement("script");
        arrived.set(script, done);
        element.onerror = () => fail(new Error(`${script} is not beside the page`));
        element.src = script;
        document.head.append(element);
      });
    } else {
      // Thousands of players would take long to make; where there are scripts, theirs is only text.
      const player = draw.closest(".side")?.querySelector("noscript")?.textContent ?? "";
      const source = /src="([^"]*)"/.exec(player)?.[1] ?? "";
      text = source.slice(source.indexOf(",") + 1);
    }
    const raw = atob(text);
    const bytes = new Uint8Array(raw.length);
    for (let at = 0; at < raw.length; at++) bytes[at] = raw.charCodeAt(at);
    return bytes.buffer;
  };

  /** The last few that were decoded. @type {Map<HTMLElement, Promise<Sound>>} */
  const decoded = new Map();
  /** @param {HTMLElement} draw @returns {Promise<Sound>} */
  const soundOf = (draw) => {
    const known = decoded.get(draw);
    if (known) return known;
    const { rate, loop, lufs } = draw.dataset;
    const made = bytesOf(draw).then(async (bytes) => {
      const buffer = await contextOf(Number(rate)).decodeAudioData(bytes);
      const looped = loop ? /** @type {[number, number]} */ (loop.split(" ").map(Number)) : null;
      return { buffer, looped, lufs: lufs ? Number(lufs) : null };
    });
    decoded.set(draw, made);
    made.catch(() => decoded.delete(draw));
    if (decoded.size > 12) decoded.delete(/** @type {HTMLElement} */ (decoded.keys().next().value));
    return made;
  };

  /** A second before the seam and a second after it. @param {AudioContext} context @param {Sound} sound */
  const seamOf = (context, { buffer, looped }) => {
    const [start, end] = looped ?? [0, buffer.length];
    const side = Math.min(buffer.sampleRate, end - start);
    const around = context.createBuffer(buffer.numberOfChannels, 2 * side, buffer.sampleRate);
    for (let channel = 0; channel < buffer.numberOfChannels; channel++) {
      const from = buffer.getChannelData(channel);
      around.copyToChannel(from.subarray(end - side, end), channel, 0);
      around.copyToChannel(from.subarray(start, start + side), channel, side);
    }
    return around;
  };

  // --- Playing ------------------------------------------------------------------------------------------------

  const asked = { level: false, round: false, seam: false, mono: false, small: false, list: false };
  /** @type {{card: HTMLElement, side: string, source: AudioBufferSourceNode, context: AudioContext, began: number, sound: Sound} | null} */
  let playing = null;
  let current = all[0];
  let side = "new";
  /** What plays next, where slots are played in turn. @type {HTMLElement[]} */
  let turn = [];
  let asking = 0;

  const shown = () => all.filter((card) => !card.hidden);
  /** @param {HTMLElement} card @param {string} which @returns {HTMLElement | null} */
  const drawOf = (card, which) => card.querySelector(`.draw[data-side="${which}"]`);
  const nameOf = (/** @type {HTMLElement} */ card) => card.dataset.slot ?? "";
  const say = (/** @type {string} */ text) => { the("now").textContent = text; };

  /** Where it is now, in seconds of the sound. */
  const place = () => {
    if (!playing) return 0;
    const { source, context, began, sound } = playing;
    const past = context.currentTime - began;
    if (asked.seam) return 0;
    const from = source.loopStart, to = source.loopEnd;
    return source.loop && past > to ? from + (past - from) % (to - from) : Math.min(past, sound.buffer.duration);
  };

  const stop = () => {
    asking++;
    if (!playing) return;
    playing.source.onended = null;
    playing.source.stop();
    playing = null;
    document.querySelectorAll(".head").forEach((head) => head.remove());
    say("Nothing plays.");
  };

  /** How much quieter the louder of both is made. @param {HTMLElement} card @param {string} which */
  const gainOf = (card, which) => {
    if (!asked.level) return 1;
    const [stock, own] = ["stock", "new"].map((name) => Number(drawOf(card, name)?.dataset.lufs ?? NaN));
    if (Number.isNaN(stock) || Number.isNaN(own)) return 1;
    const mine = which === "stock" ? stock : own;
    return 10 ** ((Math.min(stock, own) - mine) / 20);
  };

  /** From a source to the ear, as it is asked for. @param {BaseAudioContext} context @param {AudioNode} source @param {number} gain */
  const wire = (context, source, gain) => {
    let node = source;
    /** @param {AudioNode} next */
    const on = (next) => { node.connect(next); node = next; };
    const level = context.createGain();
    level.gain.value = gain;
    on(level);
    if (asked.mono || asked.small) {
      const mono = context.createGain();
      mono.channelCount = 1;
      mono.channelCountMode = "explicit";
      on(mono);
    }
    if (asked.small) {
      for (const [type, frequency, q] of /** @type {[BiquadFilterType, number, number][]} */ (/** @type {any} */ (SMALL))) {
        const filter = context.createBiquadFilter();
        Object.assign(filter, { type });
        filter.frequency.value = Math.min(frequency, context.sampleRate * 0.45);
        filter.Q.value = q;
        on(filter);
      }
    }
    on(context.destination);
  };

  /** @param {HTMLElement} card @param {string} which @param {number} from */
  const play = async (card, which, from = 0) => {
    stop();
    const mine = asking;
    select(card, false);
    side = which;
    const draw = drawOf(card, which) ?? drawOf(card, which === "new" ? "stock" : "new");
    if (!draw) { say(`${nameOf(card)} has nothing that could be played.`); return; }
    side = draw.dataset.side ?? which;
    say(`${nameOf(card)}: wait …`);
    let sound;
    try { sound = await soundOf(draw); } catch (error) { say(`${nameOf(card)}: ${/** @type {Error} */ (error).message}`); return; }
    if (mine !== asking) return;
    const context = contextOf(Number(draw.dataset.rate));
    await context.resume();
    if (mine !== asking) return;
    const source = context.createBufferSource();
    const rate = sound.buffer.sampleRate;
    source.buffer = asked.seam ? seamOf(context, sound) : sound.buffer;
    source.loop = asked.seam || asked.round;
    if (asked.round && !asked.seam && sound.looped) {
      source.loopStart = sound.looped[0] / rate;
      source.loopEnd = sound.looped[1] / rate;
    } else {
      source.loopEnd = source.buffer.duration;
    }
    wire(context, source, gainOf(card, side));
    const start = asked.seam ? 0 : Math.min(from, source.loop ? source.loopEnd : source.buffer.duration);
    source.start(0, start);
    playing = { card, side, source, context, began: context.currentTime - start, sound };
    source.onended = ended;
    const head = document.createElement("div");
    head.className = "head";
    draw.append(head);
    const how = [asked.seam && "the seam", asked.round && !asked.seam && "looped", asked.level && "levels matched", asked.mono && "mono", asked.small && "small loudspeaker"];
    say(`${nameOf(card)}: ${side === "stock" ? "the stock" : "the replacement"}${how.filter(Boolean).map((word) => `, ${word}`).join("")}`);
    requestAnimationFrame(moved);
  };

  const moved = () => {
    const head = /** @type {HTMLElement | null} */ (document.querySelector(".head"));
    if (!playing || !head) return;
    const wave = /** @type {SVGElement} */ (head.parentElement?.querySelector(".wave"));
    head.style.left = `${wave.getBoundingClientRect().width * place() / playing.sound.buffer.duration}px`;
    requestAnimationFrame(moved);
  };

  const ended = () => {
    const last = playing?.card;
    stop();
    const next = turn.shift() ?? (asked.list && last ? shown()[shown().indexOf(last) + 1] : undefined);
    if (next) play(next, side);
  };

  const again = () => (playing ? stop() : play(current, side));
  const other = () => {
    const at = place();
    const next = side === "new" ? "stock" : "new";
    if (playing) play(current, next, at); else { side = next; say(`Next: ${side === "stock" ? "the stock" : "the replacement"}`); }
  };

  /** @param {keyof typeof asked} name */
  const toggle = (name) => {
    asked[name] = !asked[name];
    the(name).checked = asked[name];
    if (playing) play(playing.card, playing.side, asked.seam ? 0 : place());
  };
  for (const name of /** @type {(keyof typeof asked)[]} */ (Object.keys(asked))) the(name).addEventListener("change", () => toggle(name));

  // --- Slots --------------------------------------------------------------------------------------------------

  /** @param {HTMLElement} card @param {boolean} move */
  const select = (card, move) => {
    if (!card) return;
    current?.classList.remove("current");
    current = card;
    card.classList.add("current");
    if (move) { card.focus({ preventScroll: true }); card.scrollIntoView({ block: "nearest" }); }
  };
  /** @param {number} by */
  const step = (by) => {
    const cards = shown();
    const next = cards[cards.indexOf(current) + by] ?? (cards.includes(current) ? null : cards[0]);
    if (!next) return;
    const was = playing !== null;
    stop();
    select(next, true);
    if (was) play(next, side);
  };

  const markOf = (/** @type {HTMLElement} */ card) => marks.get(nameOf(card))?.mark ?? "";
  const fits = (/** @type {HTMLElement} */ card, /** @type {string} */ wanted) => {
    if (!wanted) return true;
    if (wanted === "told") return Number(card.dataset.told) > 0;
    if (wanted === "apart") return Math.abs(Number(card.dataset.difference ?? 0)) >= 6;
    if (wanted === "unmarked") return markOf(card) === "";
    const [what, value] = wanted.split(/:(.*)/s);
    if (what === "state") return card.dataset.state === value;
    return what === "kind" ? card.dataset.kind === value : markOf(card) === wanted;
  };

  const arrange = () => {
    const words = the("find").value.trim().toLowerCase().split(/\s+/).filter(Boolean);
    const wanted = the("show").value, by = the("sort").value;
    const key = (/** @type {HTMLElement} */ card) => by === "difference" ? -Math.abs(Number(card.dataset.difference ?? 0)) : by === "ratio" ? -Math.abs(Math.log(Number(card.dataset.ratio ?? 1))) : Number(card.dataset.number);
    const order = [...all].sort(by === "slot" ? (a, b) => nameOf(a).localeCompare(nameOf(b), undefined, { numeric: true }) : (a, b) => key(a) - key(b));
    let count = 0;
    for (const card of order) {
      const row = rowOf(card);
      const text = `${nameOf(card)} ${row.cells[1].textContent}`.toLowerCase();
      const hidden = !fits(card, wanted) || !words.every((/** @type {string} */ word) => text.includes(word));
      card.hidden = row.hidden = hidden;
      count += hidden ? 0 : 1;
    }
    const moved = order.some((card, at) => the("cards").children[at] !== card);
    if (moved) {
      the("cards").append(...order);
      rows[0]?.parentElement?.append(...order.map((card) => rowOf(card)));
    }
    the("found").textContent = count === all.length ? "" : `${count} of ${all.length}`;
  };
  for (const id of ["find", "show", "sort"]) the(id).addEventListener("input", arrange);

  // --- Marks --------------------------------------------------------------------------------------------------

  const store = `deft-needle-proof-${body.dataset.id}`;
  /** @type {Map<string, {mark: string, note: string}>} */
  const marks = new Map();
  const keep = () => {
    try { localStorage.setItem(store, JSON.stringify([...marks])); } catch { the("marked").textContent = "this browser keeps no marks: save them"; }
  };
  /** @param {HTMLElement} card */
  const tell = (card) => {
    const { mark, note } = marks.get(nameOf(card)) ?? { mark: "", note: "" };
    const radio = /** @type {HTMLInputElement | null} */ (card.querySelector(`.verdict input[value="${mark}"]`));
    if (radio) radio.checked = true;
    const text = /** @type {HTMLInputElement} */ (card.querySelector("input.note"));
    if (text.value !== note) text.value = note;
    rowOf(card).cells[8].textContent = note ? `${mark || "note"}: ${note}` : mark;
  };
  const tally = () => {
    const values = [...marks.values()];
    const [good, again] = ["good", "again"].map((wanted) => values.filter((value) => value.mark === wanted).length);
    the("marked").textContent = `${good} good, ${again} again, ${all.length - good - again} not yet`;
  };
  /** @param {HTMLElement} card @param {{mark?: string, note?: string}} change */
  const mark = (card, change) => {
    const now = { mark: "", note: "", ...marks.get(nameOf(card)), ...change };
    if (now.mark || now.note) marks.set(nameOf(card), now); else marks.delete(nameOf(card));
    keep();
    tell(card);
    tally();
  };
  const told = () => ({ job: body.dataset.job ?? "", marks: all.filter((card) => marks.has(nameOf(card))).map((card) => ({ slot: nameOf(card), ...marks.get(nameOf(card)) })) });
  const asText = () => told().marks.map(({ slot, mark, note }) => `${slot}: ${mark || "not yet"}${note ? ` (${note})` : ""}`).join("\n");
  the("export").addEventListener("click", () => {
    const link = document.createElement("a");
    link.download = "marks.json";
    link.href = URL.createObjectURL(new Blob([JSON.stringify(told(), null, 2) + "\n"], { type: "application/json" }));
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 10000);
  });
  the("copy-marks").addEventListener("click", () => copy(asText(), the("copy-marks")));
  the("import").addEventListener("change", async () => {
    const file = the("import").files[0];
    if (!file) return;
    try {
      for (const { slot, mark: value, note } of JSON.parse(await file.text()).marks) {
        const card = all.find((one) => nameOf(one) === slot);
        if (card) mark(card, { mark: ["good", "again"].includes(value) ? value : "", note: String(note ?? "") });
      }
    } catch { the("marked").textContent = `${file.name} holds no marks`; }
  });

  /** @param {string} text @param {HTMLElement} from */
  const copy = async (text, from) => {
    try { await navigator.clipboard.writeText(text); } catch {
      const area = document.createElement("textarea");
      area.value = text;
      from.parentElement?.append(area);
      area.select();
      document.execCommand("copy");
      area.remove();
    }
    from.classList.add("copied");
    setTimeout(() => from.classList.remove("copied"), 1500);
  };

  // --- Hands --------------------------------------------------------------------------------------------------

  the("again").addEventListener("click", again);
  the("other").addEventListener("click", other);
  const help = /** @type {HTMLDialogElement} */ (the("help"));
  the("keys").addEventListener("click", () => help.showModal());
  // Once the page is there: it has many of them.
  setTimeout(() => {
    for (const code of document.querySelectorAll(".copy")) {
      code.setAttribute("tabindex", "0");
      code.setAttribute("role", "button");
      code.setAttribute("aria-label", `Copy: ${code.textContent}`);
      code.addEventListener("click", () => copy(code.textContent ?? "", /** @type {HTMLElement} */ (code)));
    }
  });
  the("cards").addEventListener("click", (/** @type {MouseEvent} */ event) => {
    const target = /** @type {HTMLElement} */ (event.target);
    const card = /** @type {HTMLElement | null} */ (target.closest(".card"));
    if (!card) return;
    const button = /** @type {HTMLElement | null} */ (target.closest("[data-play]"));
    const draw = /** @type {HTMLElement | null} */ (target.closest(".draw"));
    select(card, false);
    if (button) play(card, button.dataset.play ?? "new");
    else if (draw) {
      const wave = /** @type {Element} */ (draw.querySelector(".wave")).getBoundingClientRect();
      const part = (event.clientX - wave.left) / wave.width;
      if (part <= 1) play(card, draw.dataset.side ?? "new", part * Number(draw.dataset.seconds));
    }
  });
  the("cards").addEventListener("input", (/** @type {InputEvent} */ event) => {
    const target = /** @type {HTMLInputElement} */ (event.target);
    const card = /** @type {HTMLElement} */ (target.closest(".card"));
    if (target.matches("input.note")) mark(card, { note: target.value });
    else if (target.type === "radio") mark(card, { mark: target.value });
  });
  document.addEventListener("focusin", (event) => {
    const card = /** @type {HTMLElement} */ (event.target).closest?.(".card");
    if (card && card !== current) select(/** @type {HTMLElement} */ (card), false);
  });

  const variants = () => {
    const family = current.dataset.family;
    const same = family ? all.filter((card) => card.dataset.family === family) : [current];
    turn = same.slice(1);
    play(same[0], side);
  };
  const write = () => /** @type {HTMLInputElement} */ (current.querySelector("input.note")).focus();
  /** @type {Record<string, () => void>} */
  const hands = {
    " ": again, x: other, "1": () => play(current, "stock"), "2": () => play(current, "new"),
    ArrowUp: () => step(-1), ArrowDown: () => step(1),
    ArrowLeft: () => play(current, side, Math.max(0, place() - 1)), ArrowRight: () => play(current, side, place() + 1),
    m: () => toggle("level"), l: () => toggle("round"), s: () => toggle("seam"), o: () => toggle("mono"), k: () => toggle("small"), p: () => toggle("list"),
    v: variants, g: () => mark(current, { mark: "good" }), a: () => mark(current, { mark: "again" }), u: () => mark(current, { mark: "" }),
    n: write, "/": () => the("find").focus(), "?": () => help.showModal(),
  };
  document.addEventListener("keydown", (event) => {
    const target = /** @type {HTMLElement} */ (event.target);
    if (event.ctrlKey || event.metaKey || event.altKey || help.open) return;
    const writes = target.matches("input[type=text], input[type=search], select, textarea");
    if (event.key === "Escape" && writes) { target.blur(); return; }
    const pressed = target.matches("button, a, input, summary, audio, [role=button]") && [" ", "Enter"].includes(event.key);
    if (target.matches("[role=button]") && pressed) { event.preventDefault(); target.click(); return; }
    if (writes || pressed) return;
    const scrolls = target.matches(".strip, .wide") || (target.matches("input[type=radio]") && event.key.startsWith("Arrow"));
    const hand = hands[event.key.length === 1 ? event.key.toLowerCase() : event.key];
    if (!hand || scrolls || !current) return;
    event.preventDefault();
    hand();
  });

  try { for (const [slot, value] of JSON.parse(localStorage.getItem(store) ?? "[]")) marks.set(slot, value); } catch { /* none are kept */ }
  all.filter((card) => marks.has(nameOf(card))).forEach(tell);
  tally();
  if (current) select(current, false);

  // Where a job is watched, a script beside the page tells which turn it is; another one and the page is read anew.
  const { turn: own, files } = body.dataset;
  if (own !== undefined) {
    /** @type {any} */ (window).needleTurn = (/** @type {number} */ now) => { if (String(now) !== own && !playing) location.reload(); };
    setInterval(() => {
      const script = document.createElement("script");
      script.src = `${files}/turn.js?${Date.now()}`;
      script.onload = script.onerror = () => script.remove();
      document.head.append(script);
    }, 1000);
  }

  // For whoever looks at the sound itself.
  /** @type {any} */ (window).needle = { soundOf, drawOf, seamOf, wire, asked, place, playing: () => playing, current: () => current };
})();
