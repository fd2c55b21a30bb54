namespace Vestige.Engine.Ports;

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
