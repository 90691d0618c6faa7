// A process controller, simulated: two honey tanks, a pump and a heater. Its states are numbers, as controllers have them.
// It steps ten times a second; the same seed gives the same course.

/** Words for the numbers, which nobody should have to know. */
export const pumpStates = { 0: 'idle', 1: 'filling', 2: 'emptying', 9: 'fault' };
export const alarms = { 0: 'none', 1: 'tank 1 is nearly full', 2: 'tank 2 is too warm', 3: 'the pump has stalled' };

export function startController({ seed = 7, stepMs = 100 } = {}) {
  const registers = {
    'tank1/level': 140,
    'tank2/level': 320,
    'tank2/temperature': 36.5,
    'heater/setpoint': 38,
    'pump1/state': 1,
    alarm: 0,
  };
  const listeners = new Set();
  let random = seed;
  const chance = () => {
    random = (random * 1664525 + 1013904223) % 4294967296;
    return random / 4294967296;
  };
  const set = (path, value) => {
    if (registers[path] === value) return;
    registers[path] = value;
    for (const listener of listeners) listener(path, value);
  };
  const round = (value) => Math.round(value * 10) / 10;
  const step = () => {
    const flow = registers['pump1/state'] === 1 ? 2 + chance() : registers['pump1/state'] === 2 ? -2 - chance() : 0;
    set('tank1/level', round(Math.min(500, Math.max(0, registers['tank1/level'] + flow))));
    const drift = (registers['heater/setpoint'] - registers['tank2/temperature']) * 0.02 + (chance() - 0.5) * 0.2;
    set('tank2/temperature', round(registers['tank2/temperature'] + drift));
    if (registers['tank1/level'] > 480) set('pump1/state', 2);
    if (registers['tank1/level'] < 60) set('pump1/state', 1);
    set('alarm', registers['tank2/temperature'] > 42 ? 2 : registers['tank1/level'] > 450 ? 1 : 0);
  };
  const timer = setInterval(step, stepMs);
  timer.unref();
  return {
    get: (path) => registers[path],
    write(path, value) {
      set(path, value);
    },
    onChange(listener) {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    stop: () => clearInterval(timer),
  };
}
