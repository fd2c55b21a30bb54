using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Storage;
using Vestige.Web.Connections;

namespace Vestige.Web.Hosting;

/// <summary>Brings the store up to date, starts the engine and ends it in order.</summary>
public sealed class EngineHost(
    StoreFactory factory,
    ConnectionDirectory connections,
    ControlStore store,
    Alerting.AlertStore alerts,
    RunStore runs,
    QuarantineStore quarantine,
    CrossingEngine engine,
    DemoSetup demo,
    VestigeSettings settings,
    DataKeys keys,
    ProcessMark mark,
    TimeProvider clock,
    ILogger<EngineHost> logger
) : IHostedService, IDisposable
{
    private static readonly TimeSpan SweepEvery = TimeSpan.FromHours(6);
    private readonly CancellationTokenSource ending = new();
    private Task sweeping = Task.CompletedTask;

    private const int EventsRecalled = 100;

    public async Task StartAsync(CancellationToken cancellationToken)
    {
        await factory.MigrateAsync(cancellationToken);
        await keys.RememberAsync(factory, cancellationToken);
        await connections.LoadAsync(cancellationToken);
        if (settings.WithDemo)
        {
            await demo.FillAsync(cancellationToken);
        }

        engine.Events.Recall((await store.EventsAsync(null, EventsRecalled, cancellationToken)).Reverse());
        await TellStartAsync(mark.Begin());
        await engine.StartAsync(cancellationToken);
        try
        {
            await demo.StartAsync(cancellationToken);
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
        {
            logger.LogWarning("The demo does not continue: {Reason}", exception.Message);
        }

        sweeping = Task.WhenAll(SweepAsync(), KeepMarkAsync());
    }

    public async Task StopAsync(CancellationToken cancellationToken)
    {
        await ending.CancelAsync();
        await sweeping;
        await demo.DisposeAsync();
        await engine.Events.OfProcessAsync(EventKind.Note, "Vestige stopped.");
        await engine.DisposeAsync();
        mark.End();
    }

    public void Dispose() => ending.Dispose();

    private Task TellStartAsync(DateTimeOffset? killed) =>
        killed is { } last
            ? engine.Events.OfProcessAsync(
                EventKind.Warning,
                $"Vestige started. The process before it ended without stopping; it was last active at {last:yyyy-MM-dd HH:mm:ss} UTC."
            )
            : engine.Events.OfProcessAsync(EventKind.Note, "Vestige started.");

    private async Task KeepMarkAsync()
    {
        using var timer = new PeriodicTimer(ProcessMark.Every, clock);
        try
        {
            while (await timer.WaitForNextTickAsync(ending.Token))
            {
                mark.Touch();
            }
        }
        catch (OperationCanceledException)
        {
            // The end.
        }
    }

    /// <summary>Drops events, and what was decided, that are older than they are kept.</summary>
    private async Task SweepAsync()
    {
        try
        {
            while (true)
            {
                try
                {
                    await store.ForgetEventsAsync(clock.GetUtcNow() - TimeSpan.FromDays(settings.EventDays), ending.Token);
                    await quarantine.ForgetAsync(clock.GetUtcNow() - TimeSpan.FromDays(settings.EventDays), ending.Token);
                    await runs.ForgetAsync(clock.GetUtcNow() - TimeSpan.FromDays(settings.EventDays), ending.Token);
                    await alerts.ForgetAsync(clock.GetUtcNow() - TimeSpan.FromDays(settings.EventDays), ending.Token);
                }
                catch (PortException exception)
                {
                    logger.LogWarning(exception, "Old events could not be dropped");
                }

                await Task.Delay(SweepEvery, clock, ending.Token);
            }
        }
        catch (OperationCanceledException)
        {
            // The end.
        }
    }
}
