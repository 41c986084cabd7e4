-- How long a vessel stays, and what it owes with tax
-- Both are computed: the stay when it is read, the tax once, when the dues are written.
alter table port_call
  add column stay_hours numeric(8,1)
    generated always as (round((extract(epoch from left_at) - extract(epoch from arrived_at)) / 3600.0, 1)) virtual,
  add column dues_with_tax numeric(8,2) generated always as (round(dues * 1.2, 2)) stored;
