/**
 * What the keepers of the Alderwick cooperative work out by hand. Plain functions: nothing here knows of tools or servers.
 */

/** How thick a syrup is: a thin one is drunk at once, a thick one is stored. */
export interface Syrup {
  /** Sugar to weigh out, in kilograms. */
  sugarKg: number;
  /** Water to add, in litres. */
  waterL: number;
}

/** How much sugar and water to mix for one feeding.
 *  Use when someone asks what to feed, how much, or how thick the syrup should be.
 *  @param colonies how many colonies are fed  @minimum 1
 *  @param season spring syrup is thin (1:1), autumn syrup is thick (2:1)
 *  @readOnly
 *  @openWorld false */
export function mixSyrup(colonies: number, season: 'spring' | 'autumn' = 'spring'): Syrup {
  const sugarKg = season === 'spring' ? colonies : colonies * 2;
  return { sugarKg, waterL: season === 'spring' ? sugarKg : sugarKg / 2 };
}

export interface HarvestForecast {
  /** Days until the supers can be taken off; 0 means now. */
  days: number;
  /** The day of the harvest. */
  date: Date;
  advice: string;
}

/** When the honey of a hive can be harvested.
 *  Use when someone asks when to extract, or whether a hive is ripe.
 *  @param cappedPercent how much of the honey comb is capped, in percent  @minimum 0  @maximum 100
 *  @param dailyGainKg how much the hive gains in a day, in kilograms, as its scale shows  @minimum 0
 *  @param from the day to count from
 *  @readOnly
 *  @openWorld false */
export function daysToHarvest(cappedPercent: number, dailyGainKg: number, from: Date = new Date('2026-06-01T00:00:00Z')): HarvestForecast {
  // A comb is ripe at 80 % capped; a strong flow keeps the bees from capping.
  const pace = dailyGainKg > 1 ? 4 : 8;
  const days = cappedPercent >= 80 ? 0 : Math.ceil((80 - cappedPercent) / pace);
  const date = new Date(from.getTime() + days * 86_400_000);
  const advice =
    days === 0 ? 'Harvest now.' : dailyGainKg > 1 ? 'The flow is on: add a super and wait.' : 'Wait, and check the capping again.';
  return { days, date, advice };
}

/** What a mite count means. */
export interface MiteFinding {
  /** Mites on 100 bees. */
  rate: number;
  level: 'low' | 'watch' | 'treat';
  advice: string;
}

/** The infestation rate of a colony from a washed or sugared sample of bees, and what to do about it.
 *  Use when someone has counted mites and asks whether to treat.
 *  @param mites mites counted in the sample  @minimum 0
 *  @param bees bees in the sample; half a cup is about 300  @minimum 50
 *  @readOnly
 *  @openWorld false */
export function mitesPer100(mites: number, bees = 300): MiteFinding {
  if (mites > bees) throw new Error(`${mites} mites on ${bees} bees cannot be right: count again, or swap the two numbers.`);
  const rate = Math.round((1000 * mites) / bees) / 10;
  if (rate >= 3) return { rate, level: 'treat', advice: 'Treat this week, and count again after three weeks.' };
  if (rate >= 1) return { rate, level: 'watch', advice: 'Count again in two weeks.' };
  return { rate, level: 'low', advice: 'No treatment needed. Count again next month.' };
}

/** How strong a colony goes into winter. */
export type Strength = 'weak' | 'middling' | 'strong';

/** How many kilograms of stores a colony needs to come through the winter.
 *  Use when someone asks how heavy a hive must be, or how much is still to be fed.
 *  @param strength how strong the colony is
 *  @param frostMonths months in which frost is usual  @minimum 0  @maximum 9  @integer
 *  @param present stores already in the hive, in kilograms  @minimum 0
 *  @returns kilograms still missing
 *  @readOnly
 *  @openWorld false */
export function winterStores(strength: Strength, frostMonths: number, present = 0): number {
  const need = { weak: 10, middling: 14, strong: 18 }[strength] + Math.max(0, frostMonths - 3) * 1.5;
  return Math.max(0, Math.round((need - present) * 10) / 10);
}
