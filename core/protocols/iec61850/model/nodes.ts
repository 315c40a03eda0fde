/*
 * Logical node classes that people meet, with what they have (IEC 61850-7-4, editions 1 and 2; from memory, as far as it
 * helps to read a model: a server says itself what it has). A line is a class and its meaning, or, indented, a data
 * object: name, common data class (edition 2), M where it is mandatory, meaning.
 */
const TABLE = `
LLN0 logical node zero: the device as a whole
  Mod ENC M mode
  Beh ENS M behaviour
  Health ENS M health
  NamPlt LPL M name plate
  Loc SPS - local operation for the whole device
  LEDRs SPC - reset of its lamps
LPHD physical device
  PhyNam DPL M name plate of the device
  PhyHealth ENS M health of the device
  Proxy SPS M it stands for another device
  PwrUp SPS - power up
  WrmStr INS - number of warm starts
XCBR circuit breaker
  Loc SPS M local operation
  OpCnt INS M operations
  Pos DPC M position
  BlkOpn SPC M opening is blocked
  BlkCls SPC M closing is blocked
  CBOpCap ENS - what it can still do
  SumSwARs BCR - sum of the switched currents
XSWI switch: disconnector or earthing switch
  Loc SPS M local operation
  OpCnt INS M operations
  Pos DPC M position
  BlkOpn SPC M opening is blocked
  BlkCls SPC M closing is blocked
  SwTyp ENS M type of switch
CSWI switch controller
  Pos DPC M position
  PosA DPC - position, phase A
  PosB DPC - position, phase B
  PosC DPC - position, phase C
  OpOpn ACT - open is given
  OpCls ACT - close is given
CILO interlocking
  EnaOpn SPS M opening is released
  EnaCls SPS M closing is released
CPOW point on wave switching
  TmExc SPS M its time was exceeded
CALH alarm handling
  GrAlm SPS - group alarm
  GrWrn SPS - group warning
MMXU measurements, three phases
  TotW MV - active power
  TotVAr MV - reactive power
  TotVA MV - apparent power
  TotPF MV - power factor
  Hz MV - frequency
  PPV DEL - voltages between phases
  PhV WYE - voltages to earth
  A WYE - currents
  W WYE - active power by phase
  VAr WYE - reactive power by phase
  VA WYE - apparent power by phase
  PF WYE - power factor by phase
  Z WYE - impedance
MMXN measurements, one phase
  Amp MV - current
  Vol MV - voltage
  Watt MV - active power
  Hz MV - frequency
MMTR metering, three phases
  TotVAh BCR - apparent energy
  TotWh BCR - active energy, net
  TotVArh BCR - reactive energy, net
  SupWh BCR - active energy, supplied
  DmdWh BCR - active energy, demanded
MMDC direct current
  Watt MV - power
  Amp MV - current
  Vol MV - voltage
MSQI sequences and imbalance
  SeqA SEQ - sequences of the current
  SeqV SEQ - sequences of the voltage
MHAI harmonics
  Hz MV - basic frequency
  ThdA WYE - distortion of the current
  ThdPhV WYE - distortion of the voltage
MSTA statistics
  AvAmps MV - average current
  MaxAmps MV - highest current
MMET weather
  EnvTmp MV - temperature
  HorWdSpd MV - wind speed
PDIF differential protection
  Str ACD - start
  Op ACT M trip
PDIS distance protection
  Str ACD M start
  Op ACT M trip
PTOC overcurrent, with time
  Str ACD M start
  Op ACT M trip
  StrVal ASG - start value
  OpDlTmms ING - delay of the trip
PIOC overcurrent, instantaneous
  Str ACD - start
  Op ACT M trip
PTOV overvoltage
  Str ACD M start
  Op ACT - trip
PTUV undervoltage
  Str ACD M start
  Op ACT M trip
PTOF overfrequency
  Str ACD M start
  Op ACT M trip
PTUF underfrequency
  Str ACD M start
  Op ACT M trip
PTTR thermal overload
  Op ACT M trip
  AlmThm ACT - alarm
  LodRsvAlm MV - reserve to the alarm
PTRC trip conditioning
  Tr ACT - trip
  Op ACT - operate
  Str ACD - start of any
PSCH scheme of protection
  Op ACT M trip
PTEF transient earth fault
  Str ACD M start
  Op ACT M trip
RREC automatic reclosing
  Op ACT M close
  AutoRecSt ENS M state
RBRF breaker failure
  Str ACD - start
  OpEx ACT - trip of the others
  OpIn ACT - trip again
RSYN synchrocheck
  Rel SPS M release
  VInd SPS - voltages differ
  AngInd SPS - angles differ
  HzInd SPS - frequencies differ
RFLO fault locator
  FltZ CMV M impedance to the fault
  FltDiskm MV M distance to the fault
  FltLoop ENS - loop of the fault
RDRE disturbance recorder
  RcdMade SPS M a record was made
  FltNum INS M number of the fault
  RcdStr SPS - it records
RPSB power swing
  Str ACD - start
  BlkZn SPS - zones are blocked
ATCC tap changer control
  TapChg BSC - tap position, raised and lowered
  CtlV MV M controlled voltage
  LTCBlk SPC - blocked
  Auto SPS - automatic
YLTC tap changer
  TapChg BSC - tap position
  EndPosR SPS M highest position reached
  EndPosL SPS M lowest position reached
YPTR power transformer
  HPTmp MV - hot spot temperature
  OANL SPS - in operation at no load
  HPTmpAlm SPS - hot spot alarm
SIML insulation liquid
  InsAlm SPS M alarm of the insulation
  Tmp MV - temperature
  GasInsAlm SPS - gas alarm
  H2O MV - moisture
  H2 MV - hydrogen
SIMG insulation gas
  InsAlm SPS M alarm of the gas
  Pres MV - pressure
  Den MV - density
STMP temperature supervision
  Tmp MV - temperature
  Alm SPS - alarm
SCBR breaker supervision
  AbrAlm SPS - wear of the contacts
SARC arc detection
  FADet SPS M arc detected
TCTR current transformer
  AmpSv SAV M sampled current
  ARtg ASG - rated current
TVTR voltage transformer
  VolSv SAV M sampled voltage
  VRtg ASG - rated voltage
ZBAT battery
  Vol MV M voltage
  Amp MV - current
  BatSt SPS - state
ZGEN generator
  OpCnt INS - operations
  GnSt ENS - state
DRCT controller of a plant
  DERtyp ING M type of its units
  MaxWLim ASG - highest power
DOPM operating mode of a plant
  OpModPM SPC - mode
DPVM measurements of a photovoltaic field
  ArrWh BCR - energy
GGIO whatever has no class of its own
  Ind SPS - indication
  Alm SPS - alarm
  AnIn MV - measured value
  CntRs BCR - counter
  SPCSO SPC - output
  DPCSO DPC - output of two bits
  ISCSO INC - whole number to set
  AnOut APC - value to set
  IntIn INS - whole number
  LEDRs SPC - reset of lamps
GAPC automatic process control
  Str ACD M start
  Op ACT M operate
GSAL security
  AuthFail SEC M authentication failed
IHMI interface to people
IARC archive
ITCI interface to a control centre
ITMI interface for maintenance
FPID controller
  Out MV M output
  SptVal MV - set value
`;

export interface ObjectClassInfo {
  name: string;
  /** Common data class. */
  cdc: string;
  isMandatory: boolean;
  meaning: string;
}
export interface NodeClassInfo {
  name: string;
  meaning: string;
  objects: readonly ObjectClassInfo[];
}

function parsed(): ReadonlyMap<string, NodeClassInfo> {
  const classes = new Map<string, NodeClassInfo & { objects: ObjectClassInfo[] }>();
  let last: { objects: ObjectClassInfo[] } | null = null;
  for (const line of TABLE.split('\n')) {
    const words = line.trim().split(' ');
    if (words[0] === '') continue;
    if (!line.startsWith(' ')) {
      const info = { name: words[0], meaning: words.slice(1).join(' '), objects: [] };
      classes.set(info.name, info);
      last = info;
    } else
      last?.objects.push({
        ...{ name: words[0], cdc: words[1], isMandatory: words[2] === 'M' },
        meaning: words.slice(3).join(' '),
      });
  }
  return classes;
}

export const NODE_CLASSES = parsed();

/** Groups of nodes by their first letter (IEC 61850-7-4, clause 5). */
export const GROUPS: Record<string, string> = {
  A: 'automatic control',
  C: 'control',
  D: 'distributed generation',
  F: 'function blocks',
  G: 'generic',
  H: 'hydro power',
  I: 'interfaces',
  K: 'mechanics',
  L: 'system',
  M: 'measurement',
  P: 'protection',
  Q: 'power quality',
  R: 'protection, related',
  S: 'supervision',
  T: 'instrument transformers',
  W: 'wind power',
  X: 'switchgear',
  Y: 'power transformers',
  Z: 'further equipment',
};

/** Every node has these (edition 1 wants them, edition 2 lets all but LLN0 go without some). */
const COMMON: readonly ObjectClassInfo[] = NODE_CLASSES.get('LLN0')?.objects.slice(0, 4) ?? [];

/** What a node of that class is, in words: `overcurrent, with time (protection)`. */
export function nodeWords(name: string): string {
  const group = GROUPS[name.charAt(0)];
  const meaning = NODE_CLASSES.get(name)?.meaning;
  if (meaning === undefined) return group ?? '';
  return group === undefined ? meaning : `${meaning} (${group})`;
}

/** A data object of a node; its number, where there are several, does not matter: `Ind12`. Null: not known here. */
export function objectInfo(nodeClass: string, object: string): ObjectClassInfo | null {
  const own = NODE_CLASSES.get(nodeClass)?.objects ?? [];
  const all = [...own, ...COMMON];
  const bare = object.replace(/\d+$/, '');
  return all.find(({ name }) => name === object) ?? all.find(({ name }) => name === bare) ?? null;
}
