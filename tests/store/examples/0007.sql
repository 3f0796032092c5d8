BEGIN TRANSACTION;
CREATE TABLE alembic_version (
	version_num VARCHAR(32) NOT NULL, 
	CONSTRAINT alembic_version_pkc PRIMARY KEY (version_num)
);
INSERT INTO "alembic_version" VALUES('0007');
CREATE TABLE blobs (
	digest VARCHAR(64) NOT NULL, 
	name VARCHAR(300) NOT NULL, 
	format VARCHAR(16) NOT NULL, 
	bytes INTEGER NOT NULL, 
	width INTEGER NOT NULL, 
	height INTEGER NOT NULL, 
	focal_px FLOAT NOT NULL, 
	focal_error FLOAT NOT NULL, 
	alpha BOOLEAN NOT NULL, 
	created_at DATETIME NOT NULL, 
	PRIMARY KEY (digest)
);
CREATE TABLE decisions (
	"key" VARCHAR(64) NOT NULL, 
	body BLOB NOT NULL, 
	created_at DATETIME NOT NULL, 
	PRIMARY KEY ("key")
);
CREATE TABLE deliveries (
	id VARCHAR(16) NOT NULL, 
	material_id VARCHAR(16) NOT NULL, 
	file VARCHAR(300) NOT NULL, 
	profile VARCHAR(50) NOT NULL, 
	size INTEGER NOT NULL, 
	bytes INTEGER NOT NULL, 
	created_at DATETIME NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(material_id) REFERENCES materials (id) ON DELETE CASCADE
);
CREATE TABLE entries (
	id INTEGER NOT NULL, 
	material_id VARCHAR(16) NOT NULL, 
	parent_id INTEGER, 
	redo_id INTEGER, 
	label VARCHAR(300) NOT NULL, 
	weave TEXT NOT NULL, 
	created_at DATETIME NOT NULL, 
	aside BOOLEAN NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(material_id) REFERENCES materials (id) ON DELETE CASCADE
);
INSERT INTO "entries" VALUES(1,'m00000000001',NULL,2,'Begun','{"schema_version": 1, "steps": [{"id": "aa11", "step": "blank", "on": true, "settings": {"colour": "#808080", "width_mm": 500.0, "height_mm": 500.0}, "mask": null, "amount": 1.0, "mix": "replace"}], "sources": {}}','2026-03-01 10:00:00.000000',0);
INSERT INTO "entries" VALUES(2,'m00000000001',1,NULL,'Height added','pieces:{"schema_version":1,"steps":[{"id":"aa11","step":"blank","on":true,"settings":{"colour":"#808080","width_mm":500.0,"height_mm":500.0},"mask":null,"amount":1.0,"mix":"replace"},{"id":"cc33","step":"repair","on":true,"settings":{"layers":[{"strokes":[{"$piece":"0bb363c18d8d27a6d9d234afc0c565c5e0ca924489962ce2b39b14f04b05e532"}]}]},"mask":null,"amount":1.0,"mix":"replace"},{"id":"bb22","step":"height","on":true,"settings":{"depth_mm":4.0},"mask":null,"amount":1.0,"mix":"replace"}],"sources":{}}','2026-03-02 10:00:00.000000',0);
CREATE TABLE jobs (
	id VARCHAR(16) NOT NULL, 
	kind VARCHAR(40) NOT NULL, 
	title VARCHAR(300) NOT NULL, 
	material_id VARCHAR(16) DEFAULT '' NOT NULL, 
	settings TEXT DEFAULT '{}' NOT NULL, 
	state VARCHAR(10) NOT NULL, 
	words VARCHAR(300) DEFAULT '' NOT NULL, 
	error TEXT DEFAULT '' NOT NULL, 
	result TEXT DEFAULT '{}' NOT NULL, 
	log TEXT DEFAULT '[]' NOT NULL, 
	seconds FLOAT DEFAULT '0' NOT NULL, 
	created_at DATETIME NOT NULL, 
	PRIMARY KEY (id)
);
INSERT INTO "jobs" VALUES('j1','deliver','Deck','m00000000001','{}','waiting','','','{}','[]',0.0,'2026-03-03 10:00:00.000000');
CREATE TABLE made_of (
	material_id VARCHAR(16) NOT NULL, 
	recipe_id VARCHAR(16) NOT NULL, 
	version INTEGER NOT NULL, 
	PRIMARY KEY (material_id), 
	FOREIGN KEY(material_id) REFERENCES materials (id) ON DELETE CASCADE, 
	FOREIGN KEY(recipe_id) REFERENCES recipes (id) ON DELETE CASCADE
);
INSERT INTO "made_of" VALUES('m00000000001','f611abab4bb3',1);
CREATE TABLE materials (
	id VARCHAR(16) NOT NULL, 
	name VARCHAR(200) NOT NULL, 
	created_at DATETIME NOT NULL, 
	updated_at DATETIME NOT NULL, 
	deleted_at DATETIME, 
	head_id INTEGER NOT NULL, author VARCHAR(200) DEFAULT '' NOT NULL, origin VARCHAR(500) DEFAULT '' NOT NULL, licence VARCHAR(200) DEFAULT '' NOT NULL, sale VARCHAR(10) DEFAULT 'unknown' NOT NULL, note TEXT DEFAULT '' NOT NULL, 
	PRIMARY KEY (id)
);
INSERT INTO "materials" VALUES('m00000000001','Deck of the lightship','2026-03-01 10:00:00.000000','2026-03-02 10:00:00.000000',NULL,2,'Mara of the stores','','CC0-1.0','unknown','');
CREATE TABLE models (
	id VARCHAR(16) NOT NULL, 
	name VARCHAR(200) NOT NULL, 
	digest VARCHAR(64) NOT NULL, 
	format VARCHAR(8) NOT NULL, 
	corners INTEGER NOT NULL, 
	triangles INTEGER NOT NULL, 
	created_at DATETIME NOT NULL, unit VARCHAR(8) DEFAULT '' NOT NULL, up VARCHAR(1) DEFAULT '' NOT NULL, 
	PRIMARY KEY (id)
);
CREATE TABLE pieces (
	digest VARCHAR(64) NOT NULL, 
	body TEXT NOT NULL, 
	PRIMARY KEY (digest)
);
INSERT INTO "pieces" VALUES('0bb363c18d8d27a6d9d234afc0c565c5e0ca924489962ce2b39b14f04b05e532','{"tool":"paint","points":[[0.0,10.0,1.0],[1.0,10.0,1.0],[2.0,10.0,1.0],[3.0,10.0,1.0],[4.0,10.0,1.0],[5.0,10.0,1.0],[6.0,10.0,1.0],[7.0,10.0,1.0],[8.0,10.0,1.0],[9.0,10.0,1.0],[10.0,10.0,1.0],[11.0,10.0,1.0],[12.0,10.0,1.0],[13.0,10.0,1.0],[14.0,10.0,1.0],[15.0,10.0,1.0],[16.0,10.0,1.0],[17.0,10.0,1.0],[18.0,10.0,1.0],[19.0,10.0,1.0],[20.0,10.0,1.0],[21.0,10.0,1.0],[22.0,10.0,1.0],[23.0,10.0,1.0],[24.0,10.0,1.0],[25.0,10.0,1.0],[26.0,10.0,1.0],[27.0,10.0,1.0],[28.0,10.0,1.0],[29.0,10.0,1.0],[30.0,10.0,1.0],[31.0,10.0,1.0],[32.0,10.0,1.0],[33.0,10.0,1.0],[34.0,10.0,1.0],[35.0,10.0,1.0],[36.0,10.0,1.0],[37.0,10.0,1.0],[38.0,10.0,1.0],[39.0,10.0,1.0]],"radius_mm":5.0}');
CREATE TABLE recipe_versions (
	recipe_id VARCHAR(16) NOT NULL, 
	version INTEGER NOT NULL, 
	weave TEXT NOT NULL, 
	picture BLOB, 
	PRIMARY KEY (recipe_id, version), 
	FOREIGN KEY(recipe_id) REFERENCES recipes (id) ON DELETE CASCADE
);
INSERT INTO "recipe_versions" VALUES('f611abab4bb3',1,'{"schema_version":1,"steps":[{"id":"aa11","on":true,"mask":null,"amount":1.0,"note":"","step":"blank","version":1,"settings":{"colour":"#808080","width_mm":500.0,"height_mm":500.0},"mix":"replace"},{"id":"cc33","on":true,"mask":null,"amount":1.0,"note":"","step":"repair","version":1,"settings":{},"mix":"replace"},{"id":"bb22","on":true,"mask":null,"amount":1.0,"note":"","step":"height","version":2,"settings":{"guard":0.0,"fill":"whole depth","depth_mm":4.0},"mix":"replace"}],"sources":{}}',NULL);
CREATE TABLE recipes (
	id VARCHAR(16) NOT NULL, 
	name VARCHAR(120) NOT NULL, 
	title VARCHAR(200) NOT NULL, 
	says TEXT NOT NULL, 
	words TEXT NOT NULL, 
	version INTEGER NOT NULL, 
	created_at DATETIME NOT NULL, 
	deleted_at DATETIME, 
	PRIMARY KEY (id)
);
INSERT INTO "recipes" VALUES('f611abab4bb3','deck_boards','Deck boards','Boards of the deck.','wood deck',1,'2026-11-30 05:25:36.767379',NULL);
CREATE TABLE snapshots (
	id VARCHAR(16) NOT NULL, 
	material_id VARCHAR(16) NOT NULL, 
	entry_id INTEGER NOT NULL, 
	name VARCHAR(200) NOT NULL, 
	created_at DATETIME NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(material_id) REFERENCES materials (id) ON DELETE CASCADE
);
INSERT INTO "snapshots" VALUES('3fdb54bf691e','m00000000001',2,'as it came','2026-11-29 21:22:37.837924');
CREATE INDEX entries_by_material ON entries (material_id, id);
CREATE INDEX jobs_by_state ON jobs (state, created_at);
CREATE INDEX snapshots_by_material ON snapshots (material_id, created_at);
CREATE INDEX made_of_by_recipe ON made_of (recipe_id);
COMMIT;
