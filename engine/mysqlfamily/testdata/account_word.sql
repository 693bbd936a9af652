-- statement: set the password of gate@10.%
ALTER USER 'gate'@'10.%'
  IDENTIFIED VIA ed25519 USING '••••••'
-- undo: 

-- prove: sign in as gate@10.%

-- undo: 

