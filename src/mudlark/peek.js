/* Plays the beginning of the film or sound on the page: a few pictures of it, and how loud it is. */
async () => {
  const video = document.getElementById("v");
  const happens = (name, seconds) => new Promise((done) => {
    const timer = setTimeout(() => done(false), seconds * 1000);
    video.addEventListener(name, () => { clearTimeout(timer); done(true); }, { once: true });
  });
  const failed = new Promise((done) => {
    if (video.error) done(true);
    video.addEventListener("error", () => done(true), { once: true });
  });
  if (video.readyState < 2) await Promise.race([happens("loadeddata", 12), failed]);
  if (video.error) return { problem: video.error.message || "it reports an error" };
  if (video.readyState < 1) return { problem: "no data came" };

  const audio = new AudioContext(), analyser = audio.createAnalyser();
  analyser.fftSize = 2048;
  audio.createMediaElementSource(video).connect(analyser);
  video.muted = false;
  const levels = [];
  const wave = new Float32Array(analyser.fftSize);
  const meter = setInterval(() => {
    analyser.getFloatTimeDomainData(wave);
    levels.push(wave.reduce((most, value) => Math.max(most, Math.abs(value)), 0));
  }, 25);

  const canvas = document.createElement("canvas");
  const frames = [];
  const take = () => {
    if (!video.videoWidth) return;
    canvas.width = Math.min(960, video.videoWidth);
    canvas.height = Math.round((canvas.width * video.videoHeight) / video.videoWidth);
    canvas.getContext("2d").drawImage(video, 0, 0, canvas.width, canvas.height);
    frames.push(canvas.toDataURL("image/jpeg", 0.9).split(",")[1]);
  };
  const length = Number.isFinite(video.duration) ? video.duration : 4;
  await video.play().catch(() => null);
  const until = Math.min(2.6, length * 0.9), begun = performance.now();
  while (video.currentTime < until && !video.ended && performance.now() - begun < 7000) {
    await new Promise((done) => setTimeout(done, 50));
  }
  video.pause();
  clearInterval(meter);
  take();
  const reach = video.buffered.length ? video.buffered.end(0) : length;
  for (const share of [0.25, 0.75]) {
    video.currentTime = Math.min(reach, length) * share;
    if (await happens("seeked", 3)) take();
  }
  const sound = (video.webkitAudioDecodedByteCount || 0) > 0, loudest = Math.max(0, ...levels);
  return {
    width: video.videoWidth, height: video.videoHeight,
    duration: Number.isFinite(video.duration) ? video.duration : null, frames,
    sound, levels, level: sound ? Math.max(-99, 20 * Math.log10(loudest)) : null,
  };
}
