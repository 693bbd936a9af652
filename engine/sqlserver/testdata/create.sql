-- create_database: create database berths
CREATE DATABASE [berths]
-- undo: DROP DATABASE [berths]

-- verify: read back and compare

-- undo: 

