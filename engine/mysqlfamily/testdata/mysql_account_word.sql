-- statement: set the password of gate@10.%
ALTER USER 'gate'@'10.%'
  IDENTIFIED WITH caching_sha2_password AS '••••••'
-- undo: 

-- prove: sign in as gate@10.%

-- undo: 

