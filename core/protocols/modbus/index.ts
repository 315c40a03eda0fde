export { modbusAt, type ModbusAt, type Table } from './points.ts';
export { clientSettings, type ClientSettings } from './settings.ts';
export { readValue, writeValue, ORDERS, TYPES, type Order, type ValueType } from './values.ts';
export { ModbusClient } from './client/client.ts';
export { planBlocks, planNumbers, type Block, type PlanNumbers } from './client/blocks.ts';
export { PlainMemory, Responder, type Memory } from './server/responder.ts';
export { encodeFrame, modbusFraming, FRAMINGS, type FramingName, type WireEvent } from './wire/frame.ts';
export { decodeAnswer, decodeRequest, encodeRequest, encodeResponse, type Request, type Response } from './wire/pdu.ts';
