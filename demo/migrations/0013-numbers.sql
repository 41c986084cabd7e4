-- Calls are numbered from a million on
-- The numbers below belong to the old ledger on paper.
alter table port_call
  alter column id restart with 1000000;
