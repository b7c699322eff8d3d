plan {"stages":[{"name":"8 %","share":80000,"units":100,"longest":"1h","late":"roll-back"},{"name":"30 %","share":300000}]}
1s look
2s look
61m look {"units":99}
---
1s       look      began (serves): 8 % of units is on its way to the processes.
2s       look      arrived: 8 % of units for 1 s. Goes on once 100 more units were seen; rolls back if that is not so in 1 hour.
61m      look      rolled-back: Rolled back at 2026-11-30T09:01:00Z, since stage "8 %" took its longest time, 1 hour. What it gave was taken back; all else of the flag stayed.
