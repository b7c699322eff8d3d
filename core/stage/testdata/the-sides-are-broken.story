# A wrong sample ratio holds it once; somebody may have it go on.
plan {"stages":[{"name":"8 %","share":80000,"least":"10m"},{"name":"100 %","share":1000000}],"watches":[{"metric":{"key":"door-open-failed","title":"Failed","kind":"rate","better":"lower","by":"targetingKey","window":"1m","grace":"1m","tolerance":{"relative":0.1}},"onHarm":"roll-back"}]}
1s look
2s look
3m look {"found":{"run":1,"stage":0,"ratio":"The sides got 400 and 900 units.","short":"No harm so far, and not yet clear."}}
4m look {"found":{"run":1,"stage":0,"ratio":"The sides got 400 and 900 units.","short":"No harm so far, and not yet clear."}}
5m go-on
6m look {"found":{"run":1,"stage":0,"ratio":"The sides got 400 and 900 units.","short":"No harm so far, and not yet clear."}}
15m look {"found":{"run":1,"stage":0,"ratio":"The sides got 400 and 900 units.","short":"No harm so far, and not yet clear."}}
---
1s       look      began (serves): 8 % of units is on its way to the processes.
2s       look      arrived: 8 % of units for 1 s. Goes on in 10 min at the earliest, once its watches have looked.
3m       look      held: Held for a moment, with 8 % of units: The sides got 400 and 900 units. Nobody loses what they have.
4m       look      nothing: Held for 1 min, with 8 % of units: The sides got 400 and 900 units. Nobody loses what they have.
5m       go-on     went-on: 8 % of units for 4 min 59 s. Goes on in 7 min 2 s at the earliest, once its watches have looked.
6m       look      nothing: 8 % of units for 5 min 59 s. Goes on in 6 min 2 s. No harm so far, and not yet clear.
15m      look      stage (serves): 100 % of units is on its way to the processes.
