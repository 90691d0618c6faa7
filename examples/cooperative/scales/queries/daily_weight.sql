-- The weight of a hive, day by day: the lightest and the heaviest reading of each day.
-- Use when someone asks how a hive has done, or wants its curve.
-- @title Daily weight of a hive
-- @param hive which hive, as MR-03  @pattern ^[A-Z]{2}-\d{2}$
-- @param from the first day, as 2026-04-01  @format date
-- @param to the last day  @format date
-- @example {"hive": "MR-03", "from": "2026-04-01", "to": "2026-04-07"}
-- @limit 120
select date(at) as day, min(kg) as lightest_kg, max(kg) as heaviest_kg
from readings
where hive = :hive and date(at) between :from and :to
group by date(at)
order by day
