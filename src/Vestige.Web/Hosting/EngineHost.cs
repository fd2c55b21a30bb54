using Vestige.Engine.Supervision;
using Vestige.Storage;
using Vestige.Web.Connections;

namespace Vestige.Web.Hosting;

/// <summary>Brings the store up to date, starts the engine and ends it in order.</summary>
public sealed class EngineHost(
    StoreFactory factory,
    ConnectionDirectory connections,
    ControlStore store,
    CrossingEngine engine,
    DemoSetup demo,
    VestigeSettings settings) : IHostedService
{
    private const int EventsRecalled = 100;

    public async Task StartAsync(CancellationToken cancellationToken)
    {
        await factory.MigrateAsync(cancellationToken);
        await connections.LoadAsync(cancellationToken);
        if (settings.WithDemo)
        {
            await demo.FillAsync(cancellationToken);
        }

        engine.Events.Recall((await store.EventsAsync(null, EventsRecalled, cancellationToken)).Reverse());
        await engine.StartAsync(cancellationToken);
        await demo.StartAsync(cancellationToken);
    }

    public async Task StopAsync(CancellationToken cancellationToken)
    {
        await demo.DisposeAsync();
        await engine.DisposeAsync();
    }
}
