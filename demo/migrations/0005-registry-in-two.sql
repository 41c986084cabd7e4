-- The registry in two columns
-- Port and number are looked for apart.
alter table vessel
  add column registry_port varchar(8)
    using (upper(substring(trim(registry) from 1 for position(' ' in trim(registry)) - 1))),
  add column registry_number integer
    using (cast(substring(trim(registry) from position(' ' in trim(registry)) + 1) as integer));
