-- Lengths in metres
-- The pilots measure in metres from this season on; the old programs go on in feet until they are replaced.
alter table vessel
  alter column length_ft set data type numeric(7,2)
    using (round(length_ft * 0.3048, 2))
    restore using (round(length_m / 0.3048, 1)),
  rename column length_ft to length_m;
