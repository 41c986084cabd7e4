-- Which calls were in quarantine
-- The health office asks for it from now on; no earlier call was.
alter table port_call
  add column quarantine boolean not null default false;
