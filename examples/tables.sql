-- The tables of the examples, the same on every database: the book of a lock house, and the register that it goes to.
CREATE TABLE lock_house (code VARCHAR(10) PRIMARY KEY, name VARCHAR(40) NOT NULL, reach SMALLINT);
CREATE TABLE passage_book (
    book_no INTEGER PRIMARY KEY, lock_code VARCHAR(10), vessel VARCHAR(60), toll_txt VARCHAR(20),
    draught_m DECIMAL(5,2), passed VARCHAR(20), version INTEGER NOT NULL
);
CREATE TABLE passage (
    passage_no VARCHAR(12) PRIMARY KEY, lock_code VARCHAR(10) NOT NULL, lock_name VARCHAR(40), vessel VARCHAR(60),
    toll DECIMAL(9,2), draught_cm SMALLINT, passed_on DATE, version INTEGER
);
INSERT INTO lock_house VALUES ('SILL', 'Sillergate', 1), ('MOSS', 'Moss Weir', 2), ('OXBW', 'Oxbow', 2);
INSERT INTO passage_book VALUES
    (1, 'SILL', ' Linde ', '1.234,50', 2.35, '31.01.2025 10:15', 1), (2, 'MOSS', 'ploeg', '12,00', 1.80, '01.02.2025 08:00', 1),
    (3, 'OXBW', 'Zwaan', 'free', 2.10, '02.02.2025 09:30', 1), (4, 'MOSS', 'Karper', '8,25', 0.95, '31.02.2025 11:00', 1),
    (5, 'MIST', 'Otter', '3,00', 1.10, '03.02.2025 12:45', 2), (6, 'SILL', 'Reiger', '40,00', 1.55, '04.02.2025 07:20', 2);
