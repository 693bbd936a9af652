-- create_account: create account later_app@10.0.0.7
CREATE USER 'later_app'@'10.0.0.7'
  IDENTIFIED WITH caching_sha2_password AS '$A$005$nobodynobodynobodyno...........................................'
  ACCOUNT LOCK
-- undo: DROP USER 'later_app'@'10.0.0.7'

-- verify: read back and compare

-- undo: 

