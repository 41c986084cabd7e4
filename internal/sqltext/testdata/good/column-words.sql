alter table t
  add column colum integer,
  add column columns integer not null,
  drop column colum,
  rename column colum to column_,
  alter colum set not null;
