-- When a vessel was noted, and last changed
-- Nobody knows it of existing ones: they start without.
alter table vessel
  add column created_at timestamp,
  add column changed_at timestamp on update current_timestamp;

alter table vessel
  alter column created_at set default current_timestamp;
