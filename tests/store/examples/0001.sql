BEGIN TRANSACTION;
CREATE TABLE alembic_version (
	version_num VARCHAR(32) NOT NULL, 
	CONSTRAINT alembic_version_pkc PRIMARY KEY (version_num)
);
INSERT INTO "alembic_version" VALUES('0001');
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
INSERT INTO "entries" VALUES(2,'m00000000001',1,NULL,'Height added','{"schema_version": 1, "steps": [{"id": "aa11", "step": "blank", "on": true, "settings": {"colour": "#808080", "width_mm": 500.0, "height_mm": 500.0}, "mask": null, "amount": 1.0, "mix": "replace"}, {"id": "bb22", "step": "height", "on": true, "settings": {"depth_mm": 4.0}, "mask": null, "amount": 1.0, "mix": "replace"}], "sources": {}}','2026-03-02 10:00:00.000000',0);
CREATE TABLE materials (
	id VARCHAR(16) NOT NULL, 
	name VARCHAR(200) NOT NULL, 
	created_at DATETIME NOT NULL, 
	updated_at DATETIME NOT NULL, 
	deleted_at DATETIME, 
	head_id INTEGER NOT NULL, 
	PRIMARY KEY (id)
);
INSERT INTO "materials" VALUES('m00000000001','Deck of the lightship','2026-03-01 10:00:00.000000','2026-03-02 10:00:00.000000',NULL,2);
CREATE INDEX entries_by_material ON entries (material_id, id);
COMMIT;
