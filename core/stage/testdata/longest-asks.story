plan {"stages":[{"name":"8 %","share":80000,"units":100,"longest":"1h","late":"ask"},{"name":"30 %","share":300000}]}
1s look
2s look
59m look {"units":70}
61m look {"units":80}
62m sign {"roles":[]}
---
1s       look      began (serves): 8 % of units is on its way to the processes.
2s       look      arrived: 8 % of units for 1 s. Goes on once 100 more units were seen; asks if that is not so in 1 hour.
59m      look      nothing: 8 % of units for 58 min 59 s. Goes on once 30 more units were seen; asks if that is not so in 1 min 2 s.
61m      look      asks: 8 % of units for 1 hour, which is its longest time. Waits for somebody who may release to say whether it goes on.
62m      sign      stage (serves): 30 % of units is on its way to the processes.
