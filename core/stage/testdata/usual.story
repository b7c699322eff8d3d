# Two stages by themselves, then the last, and it is finished.
plan {"stages":[{"name":"8 %","share":80000,"least":"10m","units":40},{"name":"100 %","share":1000000,"least":"5m"}]}
1s look {"of":3}
3s look {"of":3,"arrived":2}
5s look {"of":3,"arrived":3}
5m look {"of":3,"arrived":3,"units":60}
11m look {"of":3,"arrived":3,"units":30}
12m look {"of":3,"arrived":3,"units":41}
13m look {"of":3,"arrived":3}
19m look {"of":3,"arrived":3}
20m look {"of":3,"arrived":3}
30m finish {"outcome":"as hoped"}
31m roll-back
---
1s       look      began (serves): 8 % of units has arrived at 0 of 3 processes; its time begins once all have it.
3s       look      nothing: 8 % of units has arrived at 2 of 3 processes; its time begins once all have it.
5s       look      arrived: 8 % of units for 4 s. Goes on in 10 min at the earliest, once 40 more units were seen.
5m       look      nothing: 8 % of units for 4 min 59 s. Goes on in 5 min 5 s.
11m      look      nothing: 8 % of units for 10 min 59 s. Goes on once 10 more units were seen.
12m      look      stage (serves): 100 % of units has arrived at 3 of 3 processes; its time begins once all have it.
13m      look      arrived: 100 % of units for 1 min. Is done in 5 min.
19m      look      through: 100 % of units. The last stage is done: finish it, and the flag keeps this by itself.
20m      look      nothing: 100 % of units. The last stage is done: finish it, and the flag keeps this by itself.
30m      finish    finished: Finished at 2026-11-30T08:30:00Z. What it gave is the flag's own now.
31m      roll-back is refused: it is over: start a new one, which takes the same units first
