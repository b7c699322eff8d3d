# Harm that its watch finds takes it back, whatever else is in the way; others are told, or hold it.
plan {"stages":[{"name":"8 %","share":80000,"least":"10m"},{"name":"30 %","share":300000,"least":"10m"}],"watches":[{"metric":{"key":"door-open-failed","title":"Failed","kind":"rate","better":"lower","by":"targetingKey","window":"1m","grace":"1m","tolerance":{"relative":0.1}},"onHarm":"roll-back"}]}
1s look
2s look
3m look {"found":{"run":1,"stage":0,"short":"No harm so far, and not yet clear."}}
4m look {"found":{"run":1,"stage":0,"harm":[{"reaction":"tell","metric":"door-open-ms","says":"\"Time\" grew."}],"short":"Harm in 1 of 2 watches."}}
5m look {"found":{"run":1,"stage":0,"harm":[{"reaction":"hold","metric":"door-open-ms","says":"\"Time\" grew."},{"reaction":"tell","metric":"door-open-ms","says":"\"Time\" grew."}],"short":"Harm in 1 of 2 watches."}}
6m look {"found":{"run":1,"stage":0,"harm":[{"reaction":"roll-back","metric":"door-open-failed","says":"\"Failed\" happens twice as often."}]},"blocks":[{"why":"gate","says":"a freeze"}]}
---
1s       look      began (serves): 8 % of units is on its way to the processes.
2s       look      arrived: 8 % of units for 1 s. Goes on in 10 min at the earliest, once its watches have looked.
3m       look      nothing: 8 % of units for 2 min 59 s. Goes on in 7 min 2 s. No harm so far, and not yet clear.
4m       look      harm: 8 % of units for 3 min 59 s. Goes on in 6 min 2 s. Harm in 1 of 2 watches.
5m       look      held: Held for a moment, with 8 % of units: "Time" grew. Nobody loses what they have.
6m       look      rolled-back: Rolled back at 2026-11-30T08:06:00Z, since "Failed" happens twice as often. What it gave was taken back; all else of the flag stayed.
