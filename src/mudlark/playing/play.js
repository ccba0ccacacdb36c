/* Plays the file of the page, and decodes its samples. Each task gives plain values; `state` is kept between them. */
async ([task, given]) => {
  const player = document.getElementById("v");
  const state = (window.state ||= {});
  const wait = (milliseconds) => new Promise((done) => setTimeout(done, milliseconds));
  const happens = (target, name, seconds) => new Promise((done) => {
    const timer = setTimeout(() => done(false), seconds * 1000);
    target.addEventListener(name, () => { clearTimeout(timer); done(true); }, { once: true });
  });
  const trouble = () => player.error && { code: player.error.code, words: player.error.message };
  const packed = (bytes) => {
    let text = "";
    for (let at = 0; at < bytes.length; at += 32768) text += String.fromCharCode(...bytes.subarray(at, at + 32768));
    return btoa(text);
  };

  const open = async () => {
    const possible = given.types.map((type) => player.canPlayType(type));
    player.src = "file";
    if (player.readyState < 1) await Promise.race([happens(player, "loadedmetadata", 20), happens(player, "error", 20)]);
    const quality = player.getVideoPlaybackQuality?.();
    return {
      possible, error: trouble(), ready: player.readyState, quality: quality?.totalVideoFrames ?? 0,
      duration: Number.isFinite(player.duration) ? player.duration : null,
      width: player.videoWidth, height: player.videoHeight,
    };
  };

  /* Play from a time on, as fast as it goes, until a time or the end; what was shown and dropped on the way. */
  const run = async () => {
    player.muted = true;
    player.currentTime = given.from;
    await happens(player, "seeked", 10);
    const before = player.getVideoPlaybackQuality?.();
    player.playbackRate = given.rate;
    await Promise.race([player.play().catch(() => null), wait(given.seconds * 1000)]);
    const begun = performance.now();
    while (!player.ended && !player.error && player.currentTime < given.until
      && performance.now() - begun < given.seconds * 1000) await wait(50);
    player.pause();
    player.playbackRate = 1;
    const after = player.getVideoPlaybackQuality?.();
    return {
      error: trouble(), at: player.currentTime, ended: player.ended,
      shown: (after?.totalVideoFrames ?? 0) - (before?.totalVideoFrames ?? 0),
      dropped: (after?.droppedVideoFrames ?? 0) - (before?.droppedVideoFrames ?? 0),
    };
  };

  /* Go to a time: the time of the picture that stands there, and the picture. */
  const seek = async () => {
    let shown = null;
    const video = player.videoWidth > 0;
    const note = (_, facts) => { shown = facts.mediaTime; player.requestVideoFrameCallback(note); };
    if (video) player.requestVideoFrameCallback(note);
    player.currentTime = given.to;
    const sought = await happens(player, "seeked", given.seconds);
    const begun = performance.now();
    while (video && (shown === null || shown > given.to + 0.001 || given.to - shown > given.frame)
      && performance.now() - begun < given.seconds * 1000) await wait(20);
    const canvas = document.createElement("canvas");
    canvas.width = Math.min(640, player.videoWidth || 0);
    canvas.height = Math.round((canvas.width * player.videoHeight) / (player.videoWidth || 1));
    let picture = null;
    if (video && shown !== null) {
      canvas.getContext("2d").drawImage(player, 0, 0, canvas.width, canvas.height);
      picture = canvas.toDataURL("image/jpeg", 0.85).split(",")[1];
    }
    return { error: trouble(), sought, at: player.currentTime, shown, picture };
  };

  /* Samples as the server has them: times, durations, sizes, flags, bytes. */
  const samples = async (address) => {
    const data = await (await fetch(address)).arrayBuffer();
    const count = new DataView(data).getUint32(0, true);
    const times = new Float64Array(data, 8, count), lengths = new Float64Array(data, 8 + 8 * count, count);
    const sizes = new Uint32Array(data, 8 + 16 * count, count), keys = new Uint8Array(data, 8 + 20 * count, count);
    let at = 8 + 21 * count;
    return Array.from(sizes, (size, place) => {
      const chunk = {
        type: keys[place] ? "key" : "delta", timestamp: times[place] * 1e6, duration: lengths[place] * 1e6,
        data: new Uint8Array(data, at, size),
      };
      at += size;
      return chunk;
    });
  };

  /* Wait until a decoder takes more; one of which nothing comes for so long is said to answer no more. */
  const PATIENCE = 30000, SILENT = "the decoder answers no more";
  const room = async (decoder) => {
    let since = performance.now(), before = decoder.decodeQueueSize;
    while (decoder.state === "configured" && decoder.decodeQueueSize > 24) {
      await wait(1);
      if (decoder.decodeQueueSize !== before) { before = decoder.decodeQueueSize; since = performance.now(); }
      else if (performance.now() - since > PATIENCE) throw new Error(SILENT);
    }
  };

  /* Feed a decoder; after an error it is made anew, and goes on with the next sample that can be decoded alone. */
  const feed = async (make, Chunk) => {
    const errors = [];
    let failed = null, last = null, waiting = false, skipped = 0, sent = 0;
    let decoder = make((problem) => { failed = String(problem.message || problem); });
    for (const chunk of await samples(given.address)) {
      if (failed !== null) {
        errors.push([last ?? chunk.timestamp / 1e6, failed]);
        failed = null; waiting = true;
        decoder = make((problem) => { failed = String(problem.message || problem); });
      }
      if (waiting && chunk.type !== "key") { skipped++; continue; }
      waiting = false;
      try { decoder.decode(new Chunk(chunk)); sent++; last = chunk.timestamp / 1e6; }
      catch (problem) { failed = String(problem.message || problem); }
      try { await room(decoder); }
      catch (problem) { failed = problem.message; break; }
    }
    if (decoder.state === "configured") {
      const flushed = decoder.flush().catch((problem) => { failed = String(problem.message || problem); });
      if (await Promise.race([flushed.then(() => false), wait(PATIENCE).then(() => true)])) failed = SILENT;
    }
    if (failed !== null) errors.push([last, failed]);
    if (decoder.state !== "closed") decoder.close();
    return { errors, skipped, sent };
  };

  const configured = (given) => {
    const config = { ...given.config };
    if (given.description) config.description = Uint8Array.from(atob(given.description), (char) => char.charCodeAt(0));
    return config;
  };

  const canDecode = async () => {
    const kind = given.type === "video" ? window.VideoDecoder : window.AudioDecoder;
    const answer = await kind?.isConfigSupported(configured(given)).catch(() => null);
    return Boolean(answer?.supported);
  };

  /* Decode pictures: how many came, and small grey ones of them every now and then. */
  const pictures = async () => {
    const [width, height] = given.small, times = [], greys = [];
    const canvas = new OffscreenCanvas(width, height), pen = canvas.getContext("2d", { willReadFrequently: true });
    let decoded = 0, next = -1;
    const output = (frame) => {
      decoded++;
      const time = frame.timestamp / 1e6;
      if (time >= next || time < next - 10 * given.every) {
        pen.drawImage(frame, 0, 0, width, height);
        const colours = pen.getImageData(0, 0, width, height).data, grey = new Uint8Array(width * height);
        for (let at = 0; at < grey.length; at++)
          grey[at] = (colours[4 * at] * 54 + colours[4 * at + 1] * 183 + colours[4 * at + 2] * 19) >> 8;
        times.push(time); greys.push(grey);
        next = time + given.every;
      }
      frame.close();
    };
    const make = (error) => {
      const decoder = new VideoDecoder({ output, error });
      decoder.configure(configured(given));
      return decoder;
    };
    const fed = await feed(make, EncodedVideoChunk);
    const all = new Uint8Array(width * height * greys.length);
    greys.forEach((grey, place) => all.set(grey, place * grey.length));
    return { ...fed, decoded, times, greys: packed(all) };
  };

  const loudness = (channels) => {
    let squares = 0, peak = 0, full = 0;
    for (const wave of channels)
      for (let at = 0; at < wave.length; at++) {
        const value = Math.abs(wave[at]);
        squares += value * value;
        if (value > peak) peak = value;
        if (value >= 0.9999) full++;
      }
    const count = channels.length * (channels[0]?.length || 1);
    return [Math.sqrt(squares / count), peak, full];
  };

  /* Decode sound: how loud each frame of it is. */
  const sounds = async () => {
    const frames = [];
    let decoded = 0;
    const output = (sound) => {
      decoded++;
      const channels = [];
      for (let channel = 0; channel < sound.numberOfChannels; channel++) {
        const wave = new Float32Array(sound.numberOfFrames);
        sound.copyTo(wave, { planeIndex: channel, format: "f32-planar" });
        channels.push(wave);
      }
      frames.push([sound.timestamp / 1e6, sound.numberOfFrames / sound.sampleRate, ...loudness(channels)]);
      sound.close();
    };
    const make = (error) => {
      const decoder = new AudioDecoder({ output, error });
      decoder.configure(configured(given));
      return decoder;
    };
    return { ...(await feed(make, EncodedAudioChunk)), decoded, frames };
  };

  /* Decode a whole file of sound at once. */
  const wave = async () => {
    const data = await (await fetch("file")).arrayBuffer();
    const context = new OfflineAudioContext(2, 48000, 48000);
    let sound;
    try { sound = await context.decodeAudioData(data); }
    catch (problem) { return { error: String(problem.message || problem) }; }
    const step = Math.round(sound.sampleRate / 50), frames = [];
    const channels = Array.from({ length: sound.numberOfChannels }, (_, channel) => sound.getChannelData(channel));
    for (let at = 0; at < sound.length; at += step) {
      const part = channels.map((channel) => channel.subarray(at, at + step));
      frames.push([at / sound.sampleRate, part[0].length / sound.sampleRate, ...loudness(part)]);
    }
    return { frames, duration: sound.duration };
  };

  return { open, run, seek, canDecode, pictures, sounds, wave }[task]();
}
