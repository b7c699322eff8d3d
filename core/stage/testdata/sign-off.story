# Somebody of the role signs; another role cannot. Declined, it holds, and asks again once it goes on.
plan {"stages":[{"name":"8 %","share":80000,"signOff":["releaser"]},{"name":"30 %","share":300000,"signOff":["releaser"],"declined":"roll-back"},{"name":"65 %","share":650000}]}
1s look {"of":1,"arrived":1}
2s look {"of":1,"arrived":1}
3s look {"of":1,"arrived":1}
4s go-on
1h sign {"roles":["developer"]}
2h decline {"roles":["releaser"],"because":"the help desk is not ready"}
3h go-on
4h look {"of":1,"arrived":1}
5h sign {"roles":["auditor","releaser"]}
5h1s look {"of":1,"arrived":1}
5h2s look {"of":1,"arrived":1}
6h decline {"roles":["releaser"],"because":"doors jam"}
7h look
---
1s       look      began (serves): 8 % of units has arrived at 1 of 1 processes; its time begins once all have it.
2s       look      arrived: 8 % of units for 1 s. Goes on once a releaser has signed.
3s       look      asks: 8 % of units for 2 s. Waits for a releaser to sign, for a moment so far.
4s       go-on     is refused: it is not held: it goes on by its plan
1h       sign      is refused: this is for one of the roles [releaser] to sign
2h       decline   held: Held for a moment, with 8 % of units: "the help desk is not ready". Nobody loses what they have.
3h       go-on     went-on: 8 % of units for 2 hours 59 min. Goes on once a releaser has signed.
4h       look      asks: 8 % of units for 3 hours 59 min. Waits for a releaser to sign, for a moment so far.
5h       sign      stage (serves): 30 % of units is on its way to the processes.
5h1s     look      arrived: 30 % of units for 1 s. Goes on once a releaser has signed.
5h2s     look      asks: 30 % of units for 2 s. Waits for a releaser to sign, for a moment so far.
6h       decline   rolled-back: Rolled back at 2026-11-30T14:00:00Z, since "doors jam". What it gave was taken back; all else of the flag stayed.
7h       look      nothing: Rolled back at 2026-11-30T14:00:00Z, since "doors jam". What it gave was taken back; all else of the flag stayed.
