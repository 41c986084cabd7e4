/* Names and types as people write them
 * and why */

create table "Order" ("from" int, "a""b" bool, größe FLOAT, "Größe" double, x1 decimal, y$ dec(5), "1st" character(3),
  t1 timestamptz, t2 timestamp without time zone, t3 time, b1 bytea, n1 money, n2 "integer", n3 geometry(4), first text, after text,
  date date, time time, timestamp timestamp, position int, "check" int, "select" varchar(3));
alter table "Order" rename first to second, drop after, add before text first, add c text after "1st" rebuild, alter "from" type bigint;
create index "I" on "Order" ("from" asc, (date + interval '2' days) desc, ((position)));
create view "V" as with q as (select "from", 'a;b' as s /* not the end; */ from "Order") select * from q where s <> ';' and s in (select 'x');
backfill "Order" set date = current_date, position = position(x1 in y$) + position where "from" = any_function(distinct a, b) or count(*) > 0;
assert date = date '2031-01-01' and "timestamp" = timestamp '2031-01-01 00:00:00' and trim(leading from x) = trim('a' from y) and substring(a, 2) = substring(a, 2, 3);
assert ((a)) = (((b + c))) and not not d and - - e = -(-f) and 1.5e3 > .5 and 0x1F = 31 and "A".b = a."B";
assert a = $$it's$$ or b = $q$ $$ $q$ or c = '' or d = x'' or null is null or true or false;
