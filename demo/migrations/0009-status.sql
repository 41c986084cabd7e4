-- Where each call stands
-- Calls that have left have left; the others are in.
alter table port_call
  add column status enum('expected', 'in', 'left') not null default 'expected'
    using (case when left_at is null then 'in' else 'left' end);
