using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Commands;

/// <summary>Registers an engine with an application's services.</summary>
public static class EngineRegistration
{
    /// <summary>
    /// One <see cref="CrossingEngine"/> over what the application has registered: <see cref="IConnections"/>, <see cref="IControlStore"/>,
    /// <see cref="IQuarantineStore"/>, <see cref="ISpoolCipher"/>, <see cref="IMaskKeys"/>, <see cref="TimeProvider"/> and logging.
    /// Measures, alerts, runs, versions of tables, what comparisons found and what can be restored are kept where there are stores for
    /// them.
    /// </summary>
    public static IServiceCollection AddVestigeEngine(this IServiceCollection services, EngineOptions options)
    {
        ArgumentNullException.ThrowIfNull(options);
        return services.AddSingleton(provider => new CrossingEngine(
            provider.GetRequiredService<IConnections>(),
            new EngineStores(provider.GetRequiredService<IControlStore>(), provider.GetRequiredService<IQuarantineStore>())
            {
                Measures = provider.GetService<IMeasureStore>(),
                Alerts = provider.GetService<IAlertStore>(),
                Runs = provider.GetService<IRunStore>(),
                Reconciliations = provider.GetService<IReconciliationStore>(),
                SchemaVersions = provider.GetService<ISchemaVersionStore>(),
                Undo = provider.GetService<IUndoStore>(),
                Rewinds = provider.GetService<IRewindStore>(),
            },
            new EngineSecrets(provider.GetRequiredService<ISpoolCipher>(), provider.GetRequiredService<IMaskKeys>()),
            options,
            provider.GetRequiredService<TimeProvider>(),
            Random.Shared,
            provider.GetRequiredService<ILoggerFactory>().CreateLogger("Vestige.Engine")
        ));
    }
}
