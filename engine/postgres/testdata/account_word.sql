-- statement: set the password of tickets_app
ALTER ROLE "tickets_app" PASSWORD '••••••'
-- undo: 

-- prove: sign in as tickets_app

-- undo: 

