-- The harbour's library: a full-text table with its own data, tables that refer to each other, a table of trees.
create table shelf (id integer primary key, parent integer references shelf, name text unique, best integer references book (id));
create table book (id integer primary key, shelf integer references shelf (id), title text not null, body text, added timestamp default (datetime('now')), foreign key (shelf, title) references place (shelf, title));
create table place (shelf integer, title text, primary key (shelf, title));
create virtual table book_words using fts5 (title, body, content = 'book', content_rowid = 'id');
create trigger book_in after insert on book begin insert into book_words (rowid, title, body) values (new.id, new.title, new.body); end;
create trigger book_out after delete on book begin insert into book_words (book_words, rowid, title, body) values ('delete', old.id, old.title, old.body); end;
create virtual table berths_area using rtree (id, minx, maxx);
create table json_box (id integer primary key, doc json check (json_valid(doc)), kind text generated always as (json_extract(doc, '$.kind')) stored);
create index json_box_kind on json_box (kind) where kind is not null;
create index book_length on book (length(body), abs(shelf) desc);
create view titles as with t (title) as (select title from book) select title from t union select name from shelf order by 1;
create view titles_upper as select upper(title) as title from titles;
insert into place values (1, 'Tides');
insert into shelf (id, name) values (1, 'Sea');
insert into book (shelf, title, body) values (1, 'Tides', 'high and low water');
insert into json_box (doc) values ('{"kind": "buoy"}');
