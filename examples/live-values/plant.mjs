// The controller as live values, from four functions: jexo inspect plant.mjs
import { defineServer, wrapLive } from 'jexo';
import { alarms, pumpStates, startController } from './controller.mjs';

// It runs from the first time somebody looks.
let started;
const controller = () => (started ??= startController());

const values = [
  { path: 'tank1/level', title: 'Level of tank 1', unit: 'l', staleAfter: 5 },
  { path: 'tank2/level', title: 'Level of tank 2', unit: 'l' },
  { path: 'tank2/temperature', title: 'Temperature of tank 2', unit: '°C', staleAfter: 5 },
  { path: 'pump1/state', title: 'Pump 1', words: pumpStates },
  { path: 'alarm', title: 'Alarm', words: alarms },
  {
    path: 'heater/setpoint',
    title: 'Setpoint of the heater',
    unit: '°C',
    description: 'the temperature tank 2 is kept at; honey suffers above 40',
    write: { type: 'number', minimum: 20, maximum: 40 },
  },
];

export default defineServer({
  name: 'honey-house',
  version: '1.0.0',
  instructions: 'Tanks, pump and heater of the honey house.',
  offers: [
    wrapLive(
      {
        list: () => values,
        read: (path) => ({ value: controller().get(path) }),
        watch(push) {
          for (const { path } of values) push(path, { value: controller().get(path) });
          return controller().onChange((path, value) => push(path, { value }));
        },
        write: (path, value) => controller().write(path, value),
      },
      { name: 'plant', about: 'Tanks, pump and heater of the honey house.' },
    ),
  ],
});
