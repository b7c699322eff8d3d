# It waits for its time, and for what is in the way then.
plan {"begin":3600000,"hours":{"days":["mon"],"from":"08:00","to":"16:00","zone":"Europe/Oslo"},"stages":[{"name":"8 %","share":80000}]}
10m look
59m look
1h look {"blocks":[{"why":"stop","says":"a stop of night-batching stands"}]}
2h look {"closed":true}
3h look {}
---
10m      look      nothing: Begins at 2026-11-30T09:00:00Z.
59m      look      nothing: Begins at 2026-11-30T09:00:00Z.
1h       look      nothing: Begins once this is out of the way: a stop of night-batching stands.
2h       look      nothing: Begins with its next hours: mon 08:00 to 16:00, Europe/Oslo.
3h       look      began (serves): 8 % of units is on its way to the processes.
