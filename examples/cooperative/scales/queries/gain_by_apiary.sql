-- How much the hives of each apiary have gained between two moments, in kilograms, summed over its hives.
-- Use for comparing apiaries over a week, a month or the season.
-- @title Gain by apiary
-- @param from the first moment, as 2026-04-01 06:00:00  @example 2026-04-01 06:00:00
-- @param to the last moment  @example 2026-05-01 06:00:00
-- @example {"from": "2026-04-01 06:00:00", "to": "2026-05-01 06:00:00"}
select a.name as apiary, count(*) as hives, round(sum(e.kg - b.kg), 2) as gain_kg
from hives h
join apiaries a on a.code = h.apiary
join readings b on b.hive = h.id and b.at = :from
join readings e on e.hive = h.id and e.at = :to
group by a.name
order by gain_kg desc
limit 20
