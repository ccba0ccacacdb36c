/* Runs before the scripts of a frame: notes which key systems (Encrypted Media Extensions) they ask for, and hides
   shared workers, whose requests could not be recorded. Pages do without those, as some browsers have none. */
(() => {
  delete window.SharedWorker;
  const kept = { systems: [], encrypted: false };
  Object.defineProperty(window, Symbol.for("mudlark.keys"), { value: kept });
  const ask = Navigator.prototype.requestMediaKeySystemAccess;
  if (ask) {
    Navigator.prototype.requestMediaKeySystemAccess = function (system, settings) {
      if (kept.systems.length < 20 && !kept.systems.includes(system)) kept.systems.push(String(system).slice(0, 200));
      return ask.call(this, system, settings);
    };
  }
  document.addEventListener("encrypted", () => { kept.encrypted = true; }, true);
})();
