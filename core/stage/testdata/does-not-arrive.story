# It waits for its delivery, and then holds. Having it go on waits anew.
plan {"delivery":{"percent":90,"wait":"5m"},"stages":[{"name":"8 %","share":80000},{"name":"30 %","share":300000}]}
1s look
1m look {"of":10,"arrived":8}
6m look {"of":10,"arrived":8}
7m go-on
8m look {"of":10,"arrived":9}
---
1s       look      began (serves): 8 % of units is on its way to the processes.
1m       look      nothing: 8 % of units has arrived at 8 of 10 processes; its time begins once 90 % have it.
6m       look      held: Held for a moment, with 8 % of units: the stage arrived at 8 of 10 processes within 5 min. Nobody loses what they have.
7m       go-on     went-on: 8 % of units is on its way to the processes.
8m       look      arrived: 8 % of units for 7 min 59 s. Goes on now.
