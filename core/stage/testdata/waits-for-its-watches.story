# It goes on once its watches have looked, at this stage and in this run, and found what the stage asks for.
plan {"stages":[{"name":"8 %","share":80000,"least":"10m","until":"clear","units":50},{"name":"30 %","share":300000,"least":"10m"},{"name":"100 %","share":1000000}],"watches":[{"metric":{"key":"door-open-failed","title":"Failed","kind":"rate","better":"lower","by":"targetingKey","window":"1m","grace":"1m","tolerance":{"relative":0.1}},"onHarm":"roll-back"}]}
1s look {"around":"a"}
2s look
11m look
12m look {"units":40,"found":{"run":1,"stage":0,"clear":true,"short":"Its watch is clear."}}
13m look {"units":60,"found":{"run":1,"stage":0,"short":"No harm so far, and not yet clear."}}
14m look {"around":"b","units":60,"found":{"run":1,"stage":0,"short":"No harm so far, and not yet clear."}}
15m look {"around":"b","units":60,"found":{"run":1,"stage":0,"clear":true,"short":"Its watch is clear."}}
16m look {"around":"b","units":60,"found":{"run":2,"stage":0,"clear":true,"short":"Its watch is clear."}}
17m look
28m look {"units":60,"found":{"run":2,"stage":0,"clear":true,"short":"Its watch is clear."}}
29m look {"units":60,"found":{"run":2,"stage":1,"blind":"no event of door-open-failed has arrived","short":"No harm so far, and not yet clear."}}
30m go-on
31m look {"units":60,"found":{"run":2,"stage":1,"blind":"no event of door-open-failed has arrived","short":"No harm so far, and not yet clear."}}
32m edit {"stages":[{"name":"8 %","share":80000,"least":"10m","until":"clear","units":50},{"name":"30 %","share":300000,"least":"10m"},{"name":"50 %","share":900000,"least":"10m"},{"name":"100 %","share":1000000}]}
33m edit {"stages":[{"name":"8 %","share":80000,"least":"10m","until":"clear","units":50},{"name":"30 %","share":300000,"least":"10m"},{"name":"40 %","share":400000,"least":"1m"},{"name":"100 %","share":1000000}]}
34m edit {"stages":[{"name":"8 %","share":80000,"least":"10m","until":"clear","units":50},{"name":"30 %","share":300000,"least":"10m"},{"name":"40 %","share":400000,"least":"10m"},{"name":"100 %","share":1000000}],"watches":[]}
35m look {"units":60,"found":{"run":2,"stage":1,"short":"No harm so far, and not yet clear."}}
---
1s       look      began (serves): 8 % of units is on its way to the processes.
2s       look      arrived: 8 % of units for 1 s. Goes on in 10 min at the earliest, once the outcome of 50 more units of each side is known and its watches have looked.
11m      look      nothing: 8 % of units for 10 min 59 s. Goes on once the outcome of 50 more units of each side is known and its watches have looked.
12m      look      nothing: 8 % of units for 11 min 59 s. Goes on once the outcome of 10 more units of each side is known. Its watch is clear.
13m      look      nothing: 8 % of units for 12 min 59 s. Goes on once every watch is clear. No harm so far, and not yet clear.
14m      look      run (serves): 8 % of units for 13 min 59 s. Goes on once its watches have looked.
15m      look      nothing: 8 % of units for 14 min 59 s. Goes on once its watches have looked.
16m      look      stage (serves): 30 % of units is on its way to the processes.
17m      look      arrived: 30 % of units for 1 min. Goes on in 10 min at the earliest, once its watches have looked.
28m      look      nothing: 30 % of units for 12 min. Goes on once its watches have looked. Its watch is clear.
29m      look      held: Held for a moment, with 30 % of units: no event of door-open-failed has arrived. Nobody loses what they have.
30m      go-on     went-on: 30 % of units for 14 min. Goes on once its watches have looked.
31m      look      nothing: 30 % of units for 15 min. Goes on once its watches hear of events. No harm so far, and not yet clear.
32m      edit      is refused: stages[2].share: would take a part of those who are kept to compare with: use up to 30 %, or 100 %
33m      edit      is refused: stages[2].least: must be more than the 2m after which the outcome of a unit is known
34m      edit      is refused: stages[0].until: is for releases with watches: add one, or leave it out
35m      look      stage (serves): 100 % of units is on its way to the processes.
