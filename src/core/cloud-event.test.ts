import { expect, test } from 'vitest';
import { cloudEvent } from './cloud-event.ts';
import { personEventType } from './people/event.ts';

test('an event is a CloudEvent of version 1.0', () => {
  const event = cloudEvent({
    id: '1',
    source: 'https://kettle.example/connections/crew-id',
    type: personEventType('withdrawn'),
    subject: 'member-1',
    at: 0,
    data: { link: 'x' },
  });
  expect(event).toEqual({
    specversion: '1.0',
    id: '1',
    source: 'https://kettle.example/connections/crew-id',
    type: 'person.withdrawn',
    subject: 'member-1',
    time: '1970-01-01T00:00:00.000Z',
    datacontenttype: 'application/json',
    data: { link: 'x' },
  });
});
