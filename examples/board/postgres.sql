create table vessels (id int primary key, name text, kind text, length_m float8);

create table calls (id int primary key, berth int, vessel int, cargo text, tonnes int);

insert into vessels
select i, (array['Brave','Northern','Silver','Quiet','Tern','Old','Lady','Winter'])[1 + i % 8] || ' ' ||
	(array['Petrel','Anchor','Lantern','Gannet','Ebb','Heron','Fathom','Halyard'])[1 + i / 8 % 8] || ' ' || (1 + i / 64),
	(array['tanker','trawler','ferry','coaster','barge'])[1 + i % 5], 12 + i * 37 % 2280 / 10.0
from generate_series(0, 2999) i;

insert into calls
select i, 1 + i * 31 % 96, i * 7919 % 3000,
	(array['salt cod','timber','cement','barley','wool','peat','glass','rope','slate'])[1 + i * 13 % 9], i * 101 % 9000
from generate_series(1, 30000) i;

create index calls_berth on calls (berth);

analyze;

