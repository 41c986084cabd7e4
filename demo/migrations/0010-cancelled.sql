-- A call can be cancelled
alter table port_call
  alter column status set data type enum('expected', 'in', 'left', 'cancelled');
