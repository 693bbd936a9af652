-- statement: rename gate on quay to gate@10.20.%
RENAME USER 'gate'@'10.%' TO 'gate'@'10.20.%'
-- undo: RENAME USER 'gate'@'10.20.%' TO 'gate'@'10.%'

-- verify: read back

-- undo: 

