using Vestige.Core.Crossings;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Workers;

/// <summary>By what a worker is asked to come to rest. Safe for several threads.</summary>
public sealed class Steering : IDisposable
{
    private readonly CancellationTokenSource now = new();
    private readonly CancellationTokenSource soon = new();
    private StopRequest? request;

    /// <summary>The request; null while the crossing is to run.</summary>
    public StopRequest? Request => Volatile.Read(ref request);

    /// <summary>Beats at each request.</summary>
    public AsyncSignal Changed { get; } = new();

    /// <summary>Beats when a person does not want to wait for the next attempt.</summary>
    public AsyncSignal Retry { get; } = new();

    /// <summary>Cancelled when the transaction in hand is to be rolled back.</summary>
    public CancellationToken Now => now.Token;

    /// <summary>Cancelled when no further transaction is to be taken.</summary>
    public CancellationToken Soon => soon.Token;

    /// <summary>A later request replaces an earlier one; it can only be more urgent.</summary>
    public void Stop(StopRequest stop)
    {
        ArgumentNullException.ThrowIfNull(stop);
        Volatile.Write(ref request, stop);
        if (stop.Mode != StopMode.Drain)
        {
            soon.Cancel();
        }

        if (stop.Mode == StopMode.Now)
        {
            now.Cancel();
        }

        Changed.Beat();
    }

    /// <summary>Takes back a mark that has not been reached. Nothing else can be taken back.</summary>
    public void GoOn()
    {
        if (Request is { Mode: StopMode.Drain } drain && Interlocked.CompareExchange(ref request, null, drain) == drain)
        {
            Changed.Beat();
        }
    }

    public void Dispose()
    {
        now.Dispose();
        soon.Dispose();
    }
}
