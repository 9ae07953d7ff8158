-- The tables of the harbour office of Port Merrow, with the rows that are there before the first load.

CREATE TABLE flag_state (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    iso_code CHAR(2)     NOT NULL UNIQUE,
    name     VARCHAR(60) NOT NULL UNIQUE
);

CREATE TABLE vessel_type (
    id   INTEGER PRIMARY KEY AUTOINCREMENT,
    name VARCHAR(30) NOT NULL UNIQUE
);

CREATE TABLE berth (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    code    VARCHAR(8)   NOT NULL UNIQUE,
    name    VARCHAR(40)  NOT NULL,
    depth_m DECIMAL(4,1) NOT NULL CHECK (depth_m > 0)
);

CREATE TABLE agent (
    id    INTEGER PRIMARY KEY AUTOINCREMENT,
    name  VARCHAR(40) NOT NULL COLLATE NOCASE UNIQUE,
    phone VARCHAR(20)
);

CREATE TABLE commodity (
    id   INTEGER PRIMARY KEY AUTOINCREMENT,
    name VARCHAR(40) NOT NULL UNIQUE,
    unit VARCHAR(8)  NOT NULL DEFAULT 't'
);

CREATE TABLE vessel (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    reg_no        VARCHAR(10)   NOT NULL UNIQUE,
    name          VARCHAR(40)   NOT NULL,
    type_id       INTEGER       NOT NULL REFERENCES vessel_type (id),
    flag_id       INTEGER       NOT NULL REFERENCES flag_state (id),
    gross_tonnage DECIMAL(10,1) NOT NULL CHECK (gross_tonnage > 0),
    built         SMALLINT      CHECK (built BETWEEN 1850 AND 2100),
    surveyed      DATE,
    active        BOOLEAN       NOT NULL DEFAULT 1
);

CREATE TABLE port_call (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    vessel_id  INTEGER       NOT NULL REFERENCES vessel (id),
    arrived    DATETIME      NOT NULL,
    departed   DATETIME,
    berth_id   INTEGER       NOT NULL REFERENCES berth (id),
    agent_id   INTEGER       REFERENCES agent (id),
    dues       DECIMAL(10,2) CHECK (dues >= 0),
    entered_by VARCHAR(40)   NOT NULL,
    UNIQUE (vessel_id, arrived),
    CHECK (departed >= arrived)
);
CREATE INDEX port_call_berth ON port_call (berth_id);

CREATE TABLE call_cargo (
    call_id      INTEGER       NOT NULL REFERENCES port_call (id),
    commodity_id INTEGER       NOT NULL REFERENCES commodity (id),
    tons         DECIMAL(10,2) NOT NULL CHECK (tons > 0),
    PRIMARY KEY (call_id, commodity_id)
);

-- The last call of a vessel: vessels and calls point at each other.
ALTER TABLE vessel ADD COLUMN last_call_id INTEGER REFERENCES port_call (id);
CREATE INDEX vessel_last_call ON vessel (last_call_id);

CREATE TABLE pilot (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    licence   VARCHAR(8)  NOT NULL UNIQUE,
    name      VARCHAR(40) NOT NULL,
    mentor_id INTEGER     REFERENCES pilot (id)
);

CREATE TABLE harbour_log (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    logged_at DATETIME     NOT NULL,
    vessel_id INTEGER      REFERENCES vessel (id),
    entry     VARCHAR(200) NOT NULL
);

INSERT INTO flag_state (iso_code, name) VALUES
    ('NO', 'Norway'), ('GB', 'United Kingdom'), ('DK', 'Denmark'), ('NL', 'Netherlands'), ('IS', 'Iceland'), ('PT', 'Portugal');
INSERT INTO vessel_type (name) VALUES ('Bulk carrier'), ('Coaster'), ('Trawler'), ('Tug');
INSERT INTO berth (code, name, depth_m) VALUES
    ('N1', 'North Quay 1', 9.5), ('N2', 'North Quay 2', 9.5), ('N3', 'North Quay 3', 8), ('S1', 'Salt Wharf', 6.5),
    ('F1', 'Fish Market', 4.5);
INSERT INTO agent (name, phone) VALUES ('Merrow Shipping', '0555 0101'), ('Quill & Daughters', '0555 0117'), ('Harrowgate Agency', NULL);
INSERT INTO commodity (name) VALUES ('Road salt'), ('Timber'), ('Fish meal'), ('Wheat'), ('Gravel');
INSERT INTO vessel (reg_no, name, type_id, flag_id, gross_tonnage, built, surveyed) VALUES
    ('PM-0101', 'Grey Heron', 2, 1, 1840.5, 1998, '2026-02-11'),
    ('PM-0102', 'Saltire Belle', 1, 2, 8120, 2006, '2025-11-30'),
    ('PM-0103', 'Low Tide', 3, 5, 412, 1987, '2026-01-19'),
    ('PM-0104', 'Patient Hand', 4, 2, 198.3, 2014, NULL);
INSERT INTO port_call (vessel_id, arrived, departed, berth_id, agent_id, dues, entered_by) VALUES
    (1, '2026-02-27 05:40:00', '2026-02-27 19:15:00', 1, 1, 912.4, 'harbour office'),
    (2, '2026-02-28 21:05:00', '2026-03-02 04:30:00', 2, 2, 4060, 'harbour office'),
    (3, '2026-03-01 06:20:00', NULL, 5, NULL, 61.8, 'harbour office');
INSERT INTO call_cargo (call_id, commodity_id, tons) VALUES (1, 2, 640), (2, 1, 5200.5);
INSERT INTO pilot (licence, name) VALUES ('MP-03', 'Maud Kettering');
INSERT INTO harbour_log (logged_at, vessel_id, entry) VALUES
    ('2026-02-28 20:10:00', 2, 'Pilot boarded at the outer buoy'),
    ('2026-03-01 04:00:00', NULL, 'Fog, visibility under 200 m');
