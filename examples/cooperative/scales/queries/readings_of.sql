-- Single readings of some hives, oldest first. Pages go on by hive and time.
-- @title Readings of hives
-- @param hives which hives, as MR-03  @maxItems 10
-- @param from the first moment  @default "2026-03-15 00:00:00"
-- @key hive, at
-- @limit 100
-- @example {"hives": ["MR-03", "UC-01"], "from": "2026-05-01 00:00:00"}
select hive, at, kg, celsius from readings where hive in (:hives) and at >= :from
