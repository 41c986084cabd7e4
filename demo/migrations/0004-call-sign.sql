-- Vessels carry a call sign
-- The pilots' radio log refers to vessels by call sign from the spring season on.
alter table vessel
  add column call_sign varchar(12) not null unique
    using (upper(substring(name from 1 for 3)) || '-' || cast(id as varchar(8)));
