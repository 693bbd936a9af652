-- create_account: create account o'dd\app@10.0.0.%
CREATE USER 'o''dd\\app'@'10.0.0.%'
  IDENTIFIED WITH caching_sha2_password AS '••••••'
  WITH MAX_USER_CONNECTIONS 5
  PASSWORD EXPIRE INTERVAL 90 DAY
-- undo: DROP USER 'o''dd\\app'@'10.0.0.%'

-- verify: read back and compare

-- undo: 

-- prove: sign in as o'dd\app@10.0.0.%

-- undo: 

