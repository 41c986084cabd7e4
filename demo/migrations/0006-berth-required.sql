-- Every call has a berth
-- Calls without one, or with one that is gone, are put at the roadstead.
alter table port_call
  alter column berth_id set not null,
  add constraint port_call_berth foreign key (berth_id) references berth (id) on delete cascade;
