namespace Vestige.Engine.Ports;

// Why of two workers of one crossing only the newer can write:
//
//  1. Terms come from the control store, each higher than all before. A worker has one term for each of its attempts.
//  2. Where the progress is kept stands the highest term that ever opened it. Opening with one that is not higher is refused.
//  3. Every write looks, in the step in which it writes, whether its own term still stands there and whether the position is the one that
//     it begins after. Where either is not so, nothing is written.
//
//  Case 1. A worker is thought dead, another takes over, and the first wakes within a write: that finds a higher term, and is refused.
//  Case 2. The answer to a write is lost. Whether it was written, the next opening says; the session is not used again.
//  Case 3. The control store was restored from an older backup, and gives terms that were given before: they are refused by 2, the refusal
//          says which term stands there, and the next one given is higher than that.
//  Case 4. Two workers open at once: by 2 one of them has the higher term, and the other's first write is refused, whichever came first.

/// <summary>
/// Keeps how far crossings are: a target that writes it in one step with their rows, or Vestige itself for targets that cannot. Safe for
/// several threads; the sessions it opens are not.
/// </summary>
public interface IProgressStore
{
    /// <summary>What is known of the crossing, without taking it over; <see cref="TargetProgress.None"/> where there is nothing.</summary>
    Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation);

    /// <summary>
    /// Takes the crossing over for the worker with that term. Workers with lower terms cannot write from then on. Throws
    /// <see cref="Faults.FencedException"/> when a higher term was here before.
    /// </summary>
    Task<IProgressSession> OpenProgressAsync(string crossing, long term, CancellationToken cancellation);

    /// <summary>Forgets the crossing; rows stay.</summary>
    Task ForgetAsync(string crossing, CancellationToken cancellation);
}
