alter table vessel ad column a integer;
alter table vessel add a integer not nul;
create tabel t (a integer);
update t set a = 1;
alter table t add a varchar;
alter table t add a integer using (a + );
create table t (a integer, order integer);
assert 'x;
