# A stop holds it; a lift does not have it go on; time in which it is held does not count.
plan {"stages":[{"name":"8 %","share":80000,"least":"10m"},{"name":"30 %","share":300000}]}
1s look {"of":1,"arrived":1}
2s look {"of":1,"arrived":1}
4m look {"of":1,"arrived":1,"stops":7,"blocks":[{"why":"stop","says":"a stop of night-batching stands"}]}
5m go-on {"facts":{"blocks":[{"why":"stop","says":"a stop of night-batching stands"}]}}
50m look {"of":1,"arrived":1}
60m go-on {"facts":{}}
65m look {"of":1,"arrived":1}
67m look {"of":1,"arrived":1}
---
1s       look      began (serves): 8 % of units has arrived at 1 of 1 processes; its time begins once all have it.
2s       look      arrived: 8 % of units for 1 s. Goes on in 10 min.
4m       look      held: Held for a moment, with 8 % of units: a stop of night-batching stands. Nobody loses what they have.
5m       go-on     is refused: a stop of night-batching stands
50m      look      nothing: Held for 46 min, with 8 % of units: a stop of night-batching stands. Nobody loses what they have.
60m      go-on     went-on: 8 % of units for 59 min 59 s. Goes on in 6 min 2 s.
65m      look      nothing: 8 % of units for 1 hour 4 min. Goes on in 1 min 2 s.
67m      look      stage (serves): 30 % of units has arrived at 1 of 1 processes; its time begins once all have it.
