-- statement: grant gate@10.% UPDATE, SELECT on column cargo_prod.trailers.axles
GRANT SELECT (`axles`), UPDATE (`axles`)
  ON `cargo_prod`.`trailers`
  TO 'gate'@'10.%'
  WITH GRANT OPTION
-- undo: REVOKE SELECT (`axles`), GRANT OPTION
  ON `cargo_prod`.`trailers`
  FROM 'gate'@'10.%'

-- verify: read back what it may do now

-- undo: 

