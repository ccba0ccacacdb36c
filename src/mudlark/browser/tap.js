/* Runs before the scripts of a frame, and before that of a dedicated worker: notes what is appended to media sources
   (Media Source Extensions), and which element plays them. It takes what is appended, and nothing else.

   `given` is put in its place: {binding, channel, keep}. A frame tells by a binding of the browser's, a worker tells a
   frame of its origin by a channel, and that tells by its binding. keep: all bytes; else the first of a few appends.
   What it replaces says that it is native code, and stands where it stood. */
((given, source) => {
  const scope = globalThis, framed = typeof Window === "function" && scope instanceof Window;
  if (!scope.MediaSource && !scope.ManagedMediaSource) return;
  const once = Symbol.for(given.channel);  // every script of a worker brings this along
  if (!framed && scope[once]) return;
  if (!framed) Object.defineProperty(scope, once, { value: true });
  const apply = Reflect.apply, construct = Reflect.construct, define = Object.defineProperty;
  const described = Object.getOwnPropertyDescriptor, text = JSON.stringify, Bytes = Uint8Array, Packet = Blob;
  const coded = Bytes.prototype.toBase64, letters = String.fromCharCode, btoa64 = scope.btoa;
  const CHUNK = 1 << 20, OPENINGS = 6, OPENING = 1 << 16;
  const realm = Math.random().toString(36).slice(2), began = performance.timeOrigin, clock = performance;
  const now = performance.now;
  let count = 0;

  /* The way out. What the driver puts into a frame for it is there only while something is told. */
  const own = {};
  if (framed) {
    for (const key of Object.getOwnPropertyNames(scope)) {
      if (key === given.binding || key.startsWith("__playwright__binding")) {
        own[key] = described(scope, key);
        delete scope[key];
      }
    }
    if (!own[given.binding]) return;
  }
  const out = (message) => {
    for (const key in own) define(scope, key, own[key]);
    try { own[given.binding].value(message); } finally { for (const key in own) delete scope[key]; }
  };
  const channel = typeof BroadcastChannel === "function" ? new BroadcastChannel(given.channel) : null;
  const post = channel && channel.postMessage;
  const base64 = (bytes) => {
    if (coded) return apply(coded, bytes, []);
    let binary = "";
    for (let at = 0; at < bytes.length; at += 32768) binary += apply(letters, null, bytes.subarray(at, at + 32768));
    return btoa64(binary);
  };
  const tell = (note, bytes) => {
    note.realm = note.realm || realm;
    note.number = note.number || ++count;
    if (framed) {
      if (bytes) note.data = base64(bytes);
      note.frame = location.href;
      out(text(note));
    } else if (channel) {
      apply(post, channel, [{ note, bytes: bytes ? bytes.slice() : null }]);
    }
  };
  if (framed && channel) channel.addEventListener("message", ({ data }) => tell(data.note, data.bytes));

  /* Replacing what is native, so that it cannot be told by its text, name, place or flags. */
  const natives = new WeakMap();
  const replace = (holder, key, part, traps) => {
    const found = holder && described(holder, key);
    if (!found || !found[part]) return;
    const native = found[part];
    found[part] = new Proxy(native, traps(native));
    natives.set(found[part], native);
    define(holder, key, found);
  };
  const watch = (holder, key, part, after) => replace(holder, key, part, () => ({
    apply(native, self, args) {
      const result = apply(native, self, args);
      try { after(self, args, result); } catch { /* the page goes on */ }
      return result;
    },
  }));
  replace(Function.prototype, "toString", "value", () => ({
    apply: (native, self, args) => apply(native, natives.get(self) || self, args),
  }));

  /* What is known of sources and buffers, by number. */
  const sources = new WeakMap(), buffers = new WeakMap();
  let named = 0;
  const idOf = (media) => {
    if (!sources.has(media)) sources.set(media, `${realm}-${++named}`);
    return sources.get(media);
  };
  const isSource = (it) => ["MediaSource", "ManagedMediaSource"].some((name) => scope[name] && it instanceof scope[name]);
  const finite = (value) => (Number.isFinite(value) ? value : null);
  const ranges = (buffer) => {
    const found = [];
    try { for (let at = 0; at < buffer.buffered.length; at++) found.push([buffer.buffered.start(at), buffer.buffered.end(at)]); } catch { /* it was removed */ }
    return found;
  };
  const lasts = (media) => ({ length: finite(media.duration), endless: media.duration === Infinity, state: media.readyState });

  for (const name of ["MediaSource", "ManagedMediaSource"]) {
    const prototype = scope[name] && scope[name].prototype;
    watch(prototype, "addSourceBuffer", "value", (media, [type], buffer) => {
      const id = `${realm}-${++named}`;
      buffers.set(buffer, { id, media, appends: 0 });
      tell({ what: "buffer", source: idOf(media), buffer: id, type: String(type).slice(0, 300) });
      buffer.addEventListener("updateend", () => {
        const known = buffers.get(buffer);
        tell({ what: "done", buffer: id, append: known.appends, offset: buffer.timestampOffset, ranges: ranges(buffer), ...lasts(media) });
      });
    });
    watch(prototype, "endOfStream", "value", (media, [error]) => tell({ what: "end", source: idOf(media), error: error || null, ...lasts(media) }));
    watch(prototype, "handle", "get", (media) => tell({ what: "handle", source: idOf(media) }));
  }
  for (const name of ["SourceBuffer", "ManagedSourceBuffer"]) {
    const prototype = scope[name] && described(scope[name].prototype, "appendBuffer") ? scope[name].prototype : null;
    if (!prototype) continue;
    watch(prototype, "appendBuffer", "value", (buffer, [data]) => {
      const known = buffers.get(buffer);
      if (!known) return;
      const all = ArrayBuffer.isView(data) ? new Bytes(data.buffer, data.byteOffset, data.byteLength) : new Bytes(data);
      const append = ++known.appends;
      const note = {
        what: "append", buffer: known.id, append, size: all.length, time: began + apply(now, clock, []),
        offset: buffer.timestampOffset, from: buffer.appendWindowStart, until: finite(buffer.appendWindowEnd), mode: buffer.mode,
      };
      const wanted = given.keep ? all.length : append <= OPENINGS ? Math.min(all.length, OPENING) : 0;
      tell(note);
      for (let at = 0; at < wanted; at += CHUNK) tell({ what: "bytes", buffer: known.id, append }, all.subarray(at, Math.min(wanted, at + CHUNK)));
    });
    watch(prototype, "abort", "value", (buffer) => buffers.has(buffer) && tell({ what: "abort", buffer: buffers.get(buffer).id }));
    watch(prototype, "changeType", "value", (buffer, [type]) => buffers.has(buffer)
      && tell({ what: "type", buffer: buffers.get(buffer).id, type: String(type).slice(0, 300) }));
  }

  /* Blobs may hold the script of a worker; where they do, this goes before it. */
  const blobs = new Map();
  watch(scope.URL, "createObjectURL", "value", (_, [it], address) => {
    if (isSource(it)) tell({ what: "address", source: idOf(it), address });
    else if (it instanceof Packet && it.size < 20e6) blobs.set(address, new WeakRef(it));
  });
  watch(scope.URL, "revokeObjectURL", "value", (_, [address]) => blobs.delete(address));
  replace(scope, "Worker", "value", () => ({
    construct(native, args, made) {
      let scripted = args[0];
      try {
        const blob = (blobs.get(String(scripted)) || new WeakRef({})).deref();
        if (blob instanceof Packet) scripted = apply(described(scope.URL, "createObjectURL").value, scope.URL, [new Packet([source, "\n", blob], { type: blob.type || "text/javascript" })]);
      } catch { scripted = args[0]; }
      return construct(native, [scripted, ...args.slice(1)], made);
    },
  }));
  if (scope.Worker) define(scope.Worker.prototype, "constructor", { ...described(scope.Worker.prototype, "constructor"), value: scope.Worker });
  if (!framed) return;

  watch(HTMLMediaElement.prototype, "srcObject", "set", (element, [it]) => {
    if (isSource(it)) tell({ what: "object", source: idOf(it), tag: element.tagName.toLowerCase() });
    else if (scope.MediaSourceHandle && it instanceof scope.MediaSourceHandle) tell({ what: "object", source: null, tag: element.tagName.toLowerCase() });
  });
  watch(HTMLMediaElement.prototype, "setMediaKeys", "value", (element, [keys]) => {
    const kept = scope[Symbol.for("mudlark.keys")];
    if (keys) tell({ what: "keys", systems: kept ? kept.systems : [] });
  });
})
