-- Dues of the big ones do not fit any more
alter table port_call
  alter column dues set data type numeric(9,2);
