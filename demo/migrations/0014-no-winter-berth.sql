-- Nobody winters here any more
alter table vessel
  drop column winter_berth;
