"use strict";
// Nothing here makes markup of text: every node is created, and every text is set as text.

const at = (id) => document.getElementById(id);
const VERDICTS = {
  supported: ["●", "supported"],
  partly: ["◐", "partly supported"],
  unsupported: ["○", "not supported"],
  contradicted: ["✕", "contradicted"],
};
const state = { conversation: null, chosen: new Set(), documents: [], notes: new Map(), halting: null };

function node(tag, properties = {}, ...children) {
  const made = document.createElement(tag);
  for (const [name, value] of Object.entries(properties)) {
    if (name.startsWith("aria-") || name === "role") made.setAttribute(name, value);
    else made[name] = value;
  }
  made.append(...children.filter((child) => child !== null && child !== undefined));
  return made;
}

function say(text) { at("status").textContent = text; }

const ADDRESS = (name) => "/v1/documents/" + encodeURIComponent(name);

async function call(path, options = {}) {
  const response = await fetch(path, { credentials: "same-origin", ...options });
  if (response.status === 401 && path !== "/v1/session") { await enter(); return call(path, options); }
  if (!response.ok) {
    const problem = await response.json().catch(() => ({ detail: response.statusText }));
    throw new Error(problem.place ? problem.place + ": " + problem.detail : problem.detail);
  }
  return response;
}

const get = async (path) => (await call(path)).json();
const send = (path, body, options = {}) =>
  call(path, { method: "POST", headers: { "Content-Type": "application/json", ...options.headers }, body: JSON.stringify(body), signal: options.signal });

// The token is exchanged for a cookie, and not kept.
function enter() {
  const gate = at("gate");
  if (!gate.open) gate.showModal();
  return new Promise((entered) => {
    at("gate-form").onsubmit = async (event) => {
      event.preventDefault();
      try {
        await send("/v1/session", { token: at("token").value });
        at("token").value = "";
        at("gate-error").textContent = "";
        gate.close();
        entered();
      } catch (error) { at("gate-error").textContent = error.message; }
    };
  });
}

// Documents.

async function loadDocuments() {
  const list = await get("/v1/documents");
  state.documents = list.documents;
  at("count").textContent = list.documents.length ? "(" + list.documents.length + ")" : "";
  at("fields").textContent = list.fields.length ? "Fields: " + list.fields.map((field) => field.name + " (" + field.type + ")").join(", ") : "";
  drawDocuments();
}

function noteOf(one) {
  const note = state.notes.get(one.document);
  if (note) return note;
  if (one.warnings && one.warnings.length) return { mark: "◐", text: one.warnings.join("; "), kind: "part" };
  const pages = one.pages === 1 ? "1 page" : one.pages > 1 ? one.pages + " pages" : "";
  const hasName = one.title && one.title !== one.document;
  return { mark: "✓", text: pages || (hasName ? "" : "read"), kind: "", isRead: true };
}

function drawDocuments() {
  const wanted = at("find").value.toLowerCase();
  const known = new Set(state.documents.map((one) => one.document));
  const coming = [...state.notes.keys()].filter((name) => !known.has(name)).map((document) => ({ document, uploaded: false, isComing: true }));
  const all = [...coming, ...state.documents].filter((one) => (one.document + " " + (one.title || "")).toLowerCase().includes(wanted));
  const shown = all.slice(0, 300);
  const rows = shown.map((one, number) => {
    const note = noteOf(one);
    const id = "document-" + number;
    const box = node("input", { type: "checkbox", id, checked: state.chosen.has(one.document), disabled: Boolean(one.isComing), title: "Ask only the chosen ones" });
    box.addEventListener("change", () => {
      if (box.checked) state.chosen.add(one.document); else state.chosen.delete(one.document);
      drawNarrowed();
    });
    const remove = one.uploaded ? node("button", { type: "button", textContent: "Remove", "aria-label": "Remove " + one.document }) : null;
    if (remove) remove.addEventListener("click", () => removeDocument(one.document));
    return node("li", {},
      box,
      node("label", { className: "name", htmlFor: id, textContent: one.title && one.title !== one.document ? one.title : one.document }),
      remove || node("span"),
      node("span", { className: "note " + note.kind, textContent: note.mark + " " + [one.title && one.title !== one.document ? one.document : "", note.text].filter(Boolean).join(" · "), title: note.isRead ? "read" : "" }));
  });
  if (all.length > shown.length) rows.push(node("li", {}, node("span"), node("span", { className: "note", textContent: "and " + (all.length - shown.length) + " more: find them by name" })));
  at("documents").replaceChildren(...rows);
}

function drawNarrowed() {
  const names = [...state.chosen];
  at("narrowed").hidden = names.length === 0;
  at("narrowed").textContent = names.length ? "Only in " + names.join(", ") : "";
}

async function removeDocument(name) {
  if (!confirm("Remove " + name + " from the corpus?")) return;
  try {
    await call(ADDRESS(name), { method: "DELETE" });
    state.chosen.delete(name);
    state.notes.delete(name);
    drawNarrowed();
    await loadDocuments();
    say(name + " is removed.");
  } catch (error) { say(error.message); }
}

async function upload(files) {
  if (!files.length) return;
  const form = new FormData();
  for (const file of files) {
    const name = file.webkitRelativePath || file.name;
    form.append("file", file, name);
    state.notes.set(name, { mark: "…", text: "being sent", kind: "" });
  }
  at("shelf").open = true;
  drawDocuments();
  say(files.length === 1 ? "One file is being sent." : files.length + " files are being sent.");
  try {
    const sent = await (await call("/v1/documents", { method: "POST", body: form })).json();
    for (const file of sent.files) {
      if (file.state === "refused") state.notes.set(file.document, { mark: "✕", text: file.reason, kind: "bad" });
      else if (file.state === "same") state.notes.delete(file.document);
      else state.notes.set(file.document, { mark: "…", text: "waits to be read", kind: "" });
    }
    drawDocuments();
    if (sent.job) follow(sent.job.job); else say("Nothing was new.");
  } catch (error) {
    for (const file of files) state.notes.delete(file.webkitRelativePath || file.name);
    drawDocuments();
    say(error.message);
  }
}

// Follows a build until its end.
function follow(job) {
  const events = new EventSource("/v1/jobs/" + job + "/events");
  const marks = { waiting: ["…", ""], read: ["✓", ""], read_in_part: ["◐", "part"], unread: ["✕", "bad"] };
  const draw = (event) => {
    const now = JSON.parse(event.data);
    at("progress").hidden = false;
    at("progress").max = Math.max(now.total, 1);
    at("progress").value = now.done;
    for (const one of now.documents) {
      const [mark, kind] = marks[one.state];
      if (one.state === "read") state.notes.set(one.document, { mark, text: "read", kind });
      else state.notes.set(one.document, { mark, text: one.reason || (now.state === "running" ? "is being read" : "waits to be read"), kind });
    }
    drawDocuments();
    return now;
  };
  events.addEventListener("progress", draw);
  events.addEventListener("end", async (event) => {
    events.close();
    const now = draw(event);
    at("progress").hidden = true;
    const unread = now.documents.filter((one) => one.state === "unread").length;
    for (const one of now.documents) if (one.state === "read") state.notes.delete(one.document);
    const what = { done: "Everything is read and can be asked.", stopped: "Reading was stopped.", failed: now.problem ? now.problem.detail : "Reading failed." };
    await loadDocuments();
    await loadBeginnings();
    say(now.state === "done" && unread ? (unread === 1 ? "One file could not be read; the reason is beside it." : unread + " files could not be read; the reasons are beside them.") : what[now.state]);
  });
  events.onerror = () => { events.close(); at("progress").hidden = true; };
}

// Questions to begin with.

async function loadBeginnings() {
  const { questions } = await get("/v1/suggestions");
  at("beginnings").replaceChildren(...questions.map((question) => {
    const button = node("button", { type: "button", textContent: question });
    button.addEventListener("click", () => { at("question").value = question; at("ask").requestSubmit(); });
    return button;
  }));
}

// Answers.

function verdict(claim) {
  const [shape, word] = VERDICTS[claim.verdict] || ["○", claim.verdict];
  return node("span", { className: "verdict " + claim.verdict, textContent: " " + shape + " " + word + (claim.reason && claim.verdict !== "supported" ? ": " + claim.reason : "") });
}

function marker(reply, number, entry) {
  const source = reply.sources.find((one) => one.marker === number);
  const button = node("button", { type: "button", className: "marker", textContent: String(number), "aria-pressed": "false" });
  if (source) button.setAttribute("aria-label", "Source " + number + ": " + (source.title || source.document));
  button.addEventListener("click", () => {
    document.querySelectorAll(".marker[aria-pressed=true]").forEach((other) => other.setAttribute("aria-pressed", "false"));
    entry.querySelectorAll(".marker").forEach((other) => { if (other.textContent === String(number)) other.setAttribute("aria-pressed", "true"); });
    showSource(source, button);
  });
  return button;
}

function drawReply(entry, reply) {
  entry.className = reply.status;
  const parts = [];
  if (reply.said && reply.said !== reply.question) parts.push(node("p", { className: "faint", textContent: "Searched for: " + reply.question }));
  if (reply.status === "closest") parts.push(node("p", { className: "faint", textContent: "This is the nearest that the documents say" + (reply.reason ? ": " + reply.reason : "") + "." }));
  if (reply.note) parts.push(node("p", { className: "faint", textContent: reply.note }));
  if (reply.claims.length) {
    for (const claim of reply.claims) {
      parts.push(node("p", { className: "claim" }, claim.text + " ", ...claim.citations.map((number) => marker(reply, number, entry)), verdict(claim)));
    }
  } else {
    parts.push(node("p", { className: "claim", textContent: reply.answer }));
  }
  if (reply.nearest && reply.nearest.length) {
    const items = reply.nearest.slice(0, 3).map((passage) => {
      const button = node("button", { type: "button", className: "marker", textContent: "show" });
      button.addEventListener("click", () => showSource({ ...passage, quotation: passage.text }, button));
      return node("li", {}, (passage.title || passage.document) + (passage.section.length ? " › " + passage.section[passage.section.length - 1] : "") + " ", button);
    });
    parts.push(node("p", { className: "faint", textContent: "What came nearest:" }), node("ul", { className: "nearest" }, ...items));
  }
  if (reply.trace_id) {
    const tale = node("details", { className: "tale" }, node("summary", { textContent: "How was this found?" }));
    tale.addEventListener("toggle", () => {
      if (tale.open && !tale.querySelector("iframe")) {
        const place = "/v1/traces/" + reply.trace_id;
        tale.append(
          node("a", { href: place, target: "_blank", rel: "noopener", textContent: "Open it as a page" }),
          node("iframe", { src: place, title: "How the answer was found", loading: "lazy" }));
      }
    });
    parts.push(tale);
  }
  const tokens = reply.tokens ? reply.tokens.in + reply.tokens.out : 0;
  if (tokens) parts.push(node("p", { className: "faint", textContent: reply.tokens.in + " tokens read, " + reply.tokens.out + " written" + (reply.generator ? " by " + reply.generator : "") }));
  entry.replaceChildren(entry.firstElementChild, ...parts);
}

function newEntry(question) {
  // It is not read aloud word by word: the whole answer is, when it is there.
  const live = node("p", { className: "claim coming", "aria-hidden": "true" });
  const entry = node("li", {}, node("h3", { textContent: question }), live);
  at("log").prepend(entry);
  at("beginnings").hidden = true;
  return { entry, live };
}

function filterNow() {
  const parts = [];
  if (state.chosen.size) parts.push([...state.chosen].map((name) => "document = " + JSON.stringify(name)).join(" or "));
  if (at("filter").value.trim()) parts.push(at("filter").value.trim());
  return parts.length === 2 ? "(" + parts[0] + ") and (" + parts[1] + ")" : parts[0];
}

async function* eventsOf(response) {
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { value, done } = await reader.read();
    if (done) return;
    rest += value;
    let end;
    while ((end = rest.indexOf("\n\n")) >= 0) {
      const lines = rest.slice(0, end).split("\n");
      rest = rest.slice(end + 2);
      const name = lines.find((line) => line.startsWith("event:"));
      const data = lines.filter((line) => line.startsWith("data:")).map((line) => line.slice(5).trimStart()).join("\n");
      if (name && data) yield [name.slice(6).trim(), JSON.parse(data)];
    }
  }
}

async function ask(question) {
  const { entry, live } = newEntry(question);
  at("halt").hidden = false;
  at("send").disabled = true;
  state.halting = new AbortController();
  // A stage is told when it has ended.
  const stages = { search: "Writing …", generate: "Checking …" };
  say("Searching …");
  try {
    if (!state.conversation) state.conversation = (await (await send("/v1/conversations", {})).json()).id;
    const body = { question };
    const filter = filterNow();
    if (filter) body.filter = filter;
    const path = "/v1/conversations/" + state.conversation + "/ask";
    const response = await send(path, body, { headers: { Accept: "text/event-stream" }, signal: state.halting.signal });
    let ended = false;
    for await (const [name, value] of eventsOf(response)) {
      if (name === "stage" && stages[value.stage]) say(stages[value.stage]);
      if (name === "text") live.textContent += value.text;
      if (name === "end") { ended = true; drawReply(entry, value); say("The answer is there."); at("spoken").textContent = value.answer; }
      if (name === "problem") { ended = true; failed(live, value.detail); }
    }
    if (!ended) failed(live, "The connection broke off; ask again.");
    await loadBooks();
  } catch (error) {
    failed(live, error.name === "AbortError" ? "You stopped it." : error.message);
  } finally {
    at("halt").hidden = true;
    at("send").disabled = false;
    state.halting = null;
  }
}

function failed(live, message) {
  live.className = "claim";
  live.removeAttribute("aria-hidden");
  live.append(live.textContent ? "\n" : "", node("span", { className: "verdict unsupported", textContent: "✕ " + message }));
  say(message);
}

// Sources.

async function showSource(source, from) {
  if (!source) return;
  const back = node("button", { type: "button", className: "back", textContent: "Back to the answer" });
  back.addEventListener("click", () => { from.scrollIntoView({ block: "center" }); from.focus(); });
  const [start, end] = source.span;
  const page = source.pages ? source.pages[0] : null;
  const pages = source.pages ? (source.pages[0] === source.pages[1] ? "page " + source.pages[0] : "pages " + source.pages.join(" to ")) : "";
  const parts = [
    node("h3", { textContent: source.title || source.document }),
    node("p", { className: "faint path", textContent: [source.document, pages, source.date].filter(Boolean).join(" · ") }),
    source.section.length ? node("p", { className: "faint path", textContent: source.section.join(" › ") }) : null,
    node("blockquote", { textContent: source.quotation }),
    back,
  ].filter(Boolean);
  at("sheet").replaceChildren(...parts);
  at("source").focus({ preventScroll: false });
  const around = async () => {
    const part = await get(ADDRESS(source.document) + "/text?start=" + start + "&end=" + end + "&around=900");
    at("sheet").append(node("div", { className: "around" }, part.before, node("mark", { textContent: part.text }), part.after));
    at("sheet").querySelector("mark").scrollIntoView({ block: "nearest" });
  };
  try {
    if (page === null) { await around(); return; }
    const picture = node("img", { alt: "Page " + page + " of " + (source.title || source.document) + ", the cited lines marked", src: ADDRESS(source.document) + "/pages/" + page + "?start=" + start + "&end=" + end });
    picture.addEventListener("error", () => { picture.remove(); around().catch(() => {}); }, { once: true });
    at("sheet").append(picture);
  } catch (error) {
    at("sheet").append(node("p", { className: "faint", textContent: error.message }));
  }
}

// Conversations.

async function loadBooks() {
  const { conversations } = await get("/v1/conversations");
  const options = conversations.map((one) => node("option", { value: one.id, textContent: one.first_question.slice(0, 60), selected: one.id === state.conversation }));
  const isKept = conversations.some((one) => one.id === state.conversation);
  if (!isKept) options.unshift(node("option", { value: "", textContent: "a new one", selected: true }));
  at("book").replaceChildren(...options);
  at("export").hidden = at("tear").hidden = !isKept;
  if (isKept) at("export").href = "/v1/conversations/" + state.conversation + "/export";
}

async function openBook(id) {
  state.conversation = id || null;
  at("log").replaceChildren();
  at("beginnings").hidden = false;
  if (id) {
    const { turns } = await get("/v1/conversations/" + id);
    for (const turn of turns) drawReply(newEntry(turn.said).entry, turn);
  }
  await loadBooks();
}

// What the visitor does.

at("ask").addEventListener("submit", (event) => {
  event.preventDefault();
  const question = at("question").value.trim();
  if (!question || at("send").disabled) return;
  at("question").value = "";
  ask(question);
});
at("question").addEventListener("keydown", (event) => {
  if (event.key === "Enter" && !event.shiftKey && !event.isComposing) { event.preventDefault(); at("ask").requestSubmit(); }
});
at("key-form").addEventListener("submit", async (event) => {
  event.preventDefault();
  const key = at("key").value;
  at("key").value = "";
  try {
    await send("/v1/session", { key });
    at("key-note").textContent = key ? "Your key is in use." : "Your key is forgotten.";
  } catch (error) { at("key-note").textContent = error.message; }
});
at("halt").addEventListener("click", () => { if (state.halting) state.halting.abort(); });
at("files").addEventListener("change", (event) => { upload([...event.target.files]); event.target.value = ""; });
at("find").addEventListener("input", drawDocuments);
at("book").addEventListener("change", (event) => openBook(event.target.value).catch((error) => say(error.message)));
at("fresh").addEventListener("click", () => { openBook(null).catch((error) => say(error.message)); at("question").focus(); });
at("tear").addEventListener("click", async () => {
  if (!confirm("Delete this conversation?")) return;
  try { await call("/v1/conversations/" + state.conversation, { method: "DELETE" }); await openBook(null); say("The conversation is deleted."); } catch (error) { say(error.message); }
});
for (const name of ["dragover", "dragleave", "drop"]) {
  document.body.addEventListener(name, (event) => {
    event.preventDefault();
    document.body.classList.toggle("over", name === "dragover");
    if (name === "drop") upload([...event.dataTransfer.files]);
  });
}

(async () => {
  try {
    let session = await get("/v1/session");
    if (session.needs_token) { await enter(); session = await get("/v1/session"); }
    at("key-room").hidden = !session.takes_key;
    if (session.has_key) at("key-note").textContent = "Your key is in use.";
    at("drop").classList.toggle("closed", session.uploads === "off");
    await Promise.all([loadDocuments(), loadBooks(), loadBeginnings()]);
    at("shelf").open = state.documents.length === 0;
    at("about").textContent = state.documents.length ? "Answers from " + state.documents.length + " documents, each sentence with its source" : "Begin with a few documents of yours";
  } catch (error) { say(error.message); }
})();
