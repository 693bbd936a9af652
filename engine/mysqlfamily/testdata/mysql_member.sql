-- statement: grant role desk to cargo_app@10.0.0.%
GRANT 'desk'@'%' TO 'cargo_app'@'10.0.0.%'
-- undo: REVOKE 'desk'@'%' FROM 'cargo_app'@'10.0.0.%'

-- statement: set the default role of cargo_app@10.0.0.%
SET DEFAULT ROLE 'desk'@'%' TO 'cargo_app'@'10.0.0.%'
-- undo: SET DEFAULT ROLE NONE TO 'cargo_app'@'10.0.0.%'

-- verify: read back

-- undo: 

