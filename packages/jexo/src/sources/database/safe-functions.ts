/** Functions of SQLite that read and do nothing else. Whatever is not here is refused. */
export const sqliteFunctions: ReadonlySet<string> = new Set(
  `abs avg ceil ceiling changes char coalesce concat concat_ws count cume_dist date datetime degrees dense_rank exp first_value floor format
  glob group_concat hex ifnull iif instr json json_array json_array_length json_each json_error_position json_extract json_group_array
  json_group_object json_insert json_object json_patch json_pretty json_quote json_remove json_replace json_set json_tree json_type json_valid
  julianday lag last_value lead length like likelihood likely ln log log10 log2 lower ltrim max median min mod nth_value ntile nullif
  octet_length percent_rank pi pow power printf quote radians random rank replace round row_number rtrim sign sin cos tan asin acos atan
  atan2 sqrt stdev string_agg strftime substr substring sum time timediff total trim trunc typeof unicode unixepoch unlikely upper
  generate_series bm25 highlight snippet cast`.split(/\s+/),
);

/** Modules of SQLite that can be named as a table and reach beyond the tables: files, pages, settings. */
export const sqliteModules =
  /^(?:pragma_.*|fsdir|sqlite_dbpage|dbstat|sqlite_stmt|bytecode|tables_used|zipfile|csv|completion|lsm1?|vtablog|wholenumber|fts3tokenize|sqlite_memstat|readfile|writefile)$/;

/** Functions of MariaDB and MySQL that read and do nothing else. */
export const mysqlFunctions: ReadonlySet<string> = new Set(
  `abs acos adddate addtime ascii asin atan atan2 avg bin bit_and bit_count bit_length bit_or bit_xor cast ceil ceiling char char_length
  character_length coalesce concat concat_ws conv convert convert_tz cos cot count cume_dist curdate current_date current_time current_timestamp
  curtime date date_add date_format date_sub datediff day dayname dayofmonth dayofweek dayofyear degrees dense_rank elt exp export_set extract
  field find_in_set first_value floor format from_days from_unixtime greatest group_concat hex hour if ifnull inet_aton inet_ntoa inet6_aton
  inet6_ntoa insert instr interval isnull json_array json_array_append json_array_insert json_arrayagg json_contains json_contains_path
  json_depth json_detailed json_exists json_extract json_insert json_keys json_length json_merge_patch json_merge_preserve json_object
  json_objectagg json_overlaps json_pretty json_query json_quote json_remove json_replace json_search json_set json_table json_type
  json_unquote json_valid json_value lag last_day last_value lcase lead least left length ln locate log log10 log2 lower ltrim make_set makedate
  maketime max md5 microsecond mid min minute mod month monthname nth_value ntile now nullif oct octet_length ord percent_rank period_add
  period_diff pi position pow power quarter radians rand rank regexp_instr regexp_replace regexp_substr replace reverse right round row_number
  rtrim sec_to_time second sha1 sha2 sign sin soundex space sqrt std stddev stddev_pop stddev_samp str_to_date strcmp subdate substr substring
  substring_index subtime sum tan time time_format time_to_sec timediff timestamp timestampadd timestampdiff to_days to_seconds trim truncate
  ucase unhex unix_timestamp upper utc_date utc_time utc_timestamp uuid var_pop var_samp variance week weekday weekofyear year yearweek median
  percentile_cont percentile_disc values decimal signed unsigned binary varchar datetime st_astext st_x st_y st_distance st_contains match against`.split(
    /\s+/,
  ),
);

/** Functions of PostgreSQL that its catalogue calls harmless, and that reach beyond the rows all the same. */
export const postgresRefused =
  /^(?:pg_(?!typeof$|size_pretty$|column_size$).*|.*_to_xml.*|lo_.*|dblink.*|has_.*_privilege|inet_(?:client|server)_.*|ts_stat|ts_debug|current_setting|current_query|set_config|txid_.*|.*regclass|currval|nextval|setval|lastval|binary_upgrade_.*|xml.*|xpath.*|table_.*|cursor_.*|query_.*|schema_.*|database_.*|shobj_description|col_description|obj_description|format_type|row_security_active|current_schemas?|version|brin_.*|gin_.*|gist_.*|spg_.*|hash(?!text$).*)$/;

/** Volatile functions of PostgreSQL that do no harm. */
export const postgresVolatile = ['random', 'clock_timestamp', 'timeofday', 'statement_timestamp', 'gen_random_uuid', 'now'];
