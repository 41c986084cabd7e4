-- A pilots' office: conflict clauses, quoted defaults, generated columns, expression and partial indexes, triggers, views.
create table Pilots (
  ID integer primary key autoincrement,
  Name text not null collate NOCASE default "",
  Licence varchar(20) unique on conflict replace,
  Since datetime default current_timestamp,
  Rank int(11) null default -1 check (Rank >= -1),
  Initials text generated always as (substr(Name, 1, 1) || '.') virtual,
  "weird ""name""" blob default x'00ff',
  [bracketed] numeric(10, 2) not null default (1 + 1),
  `ticked` LONGTEXT,
  typeless
);
create index Pilots_by_name on Pilots (Name collate rtrim desc, lower(Licence)) where Licence is not null;
create unique index "by rank" on Pilots (Rank) where Rank > 5;
create table Trips (
  pilot integer not null references Pilots (ID) on delete cascade on update set null deferrable initially deferred,
  vessel text not null, at real not null default (julianday('2031-01-01')),
  constraint "one trip" primary key (pilot, vessel) on conflict ignore,
  constraint sane check (at > 0 and vessel <> 'it''s')
) without rowid;
create table strictly (a integer primary key, b any, c real not null, d blob) strict;
create table nothing_but_a_key (k text primary key);
create view busy (pilot, trips) as select p.Name, count(*) from Pilots p join Trips t on t.pilot = p.ID group by 1 having count(*) > 1;
create trigger note_trip after insert on Trips when new.at > 0 begin
  update Pilots set Rank = Rank + 1 where ID = new.pilot;
  insert or ignore into nothing_but_a_key values ('a;b');
end;
create trigger busy_gone instead of delete on busy begin select raise(abort, 'no'); end;
insert into Pilots (Name, Licence) values ('Ash', 'L1'), ('Elm', null), ('Oak', 'L3');
insert into Trips (pilot, vessel) values (1, 'Tern'), (1, 'Skua'), (2, 'Tern');
insert into strictly values (1, 'x', 2.5, x'01'), (2, 3, 4, null);
