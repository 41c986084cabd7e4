-- Tax is 25 of a hundred from this year on
alter table port_call
  alter column dues_with_tax set expression as (round(dues * 1.25, 2));
