using Microsoft.AspNetCore.DataProtection;
using Vestige.Connectors.PostgreSql;
using Vestige.Connectors.StandIn;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Storage;
using Vestige.Web.Alerting;
using Vestige.Web.Api;
using Vestige.Web.Api.Describing;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Guides;
using Vestige.Web.Hosting;
using Vestige.Web.Live;
using Vestige.Web.Measures;
using Vestige.Web.Pages;
using Vestige.Web.Tracing;
using Vestige.Web.Treating;

return await Program.RunAsync(args, CancellationToken.None);

/// <summary>The application: what it is made of, from its start to its end.</summary>
public partial class Program
{
    private const int ThreadsAtHand = 48;

    /// <summary>
    /// Runs it until it is asked to stop, or cannot start, which it says on the error output. Several can run in one process, each with a
    /// data folder and a port of its own.
    /// </summary>
    /// <param name="args">The command line.</param>
    /// <param name="stop">Ends it, as a signal does.</param>
    /// <returns>The exit code.</returns>
    public static async Task<int> RunAsync(string[] args, CancellationToken stop)
    {
        // SQLite calls block their thread; with a thread at hand for each, no page waits for a crossing.
        ThreadPool.SetMinThreads(ThreadsAtHand, ThreadsAtHand);
        var builder = WebApplication.CreateBuilder(
            new WebApplicationOptions
            {
                ApplicationName = typeof(Program).Assembly.GetName().Name,
                Args = args,
                ContentRootPath = AppContext.BaseDirectory,
            }
        );
        VestigeSettings settings;
        DataFolderLock? folder = null;
        DataKeys keys;
        try
        {
            settings = VestigeSettings.From(builder.Configuration);
            ListenCheck.Check(settings.Port);
            OwnerOnly.MakeFromNowOn();
            folder = DataFolderLock.Take(settings.DataFolder);
            OwnerOnly.Enforce(settings.DataFolder);
            keys = DataKeys.Open(settings);
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException or InvalidOperationException)
        {
            folder?.Dispose();
            return await RefuseAsync(exception.Message);
        }

        using (folder)
        {
            await using var app = Build(builder, settings, keys);
            if (await TryStartAsync(app, settings.Port) is { } reason)
            {
                return await RefuseAsync(reason);
            }

            Tell(app, settings);
            await app.WaitForShutdownAsync(stop);
        }

        return 0;
    }

    private static async Task<int> RefuseAsync(string reason)
    {
        await Console.Error.WriteLineAsync($"Vestige cannot start. {reason}");
        return 1;
    }

    private static WebApplication Build(WebApplicationBuilder builder, VestigeSettings settings, DataKeys keys)
    {
        builder.WebHost.ConfigureKestrel(kestrel => kestrel.Limits.MaxRequestBodySize = RequestLimits.LongestBody);
        builder.WebHost.UseUrls($"http://127.0.0.1:{settings.Port}");
        builder.Configuration["AllowedHosts"] =
            "127.0.0.1;localhost;[::1]" + (Uri.TryCreate(settings.PublicOrigin, UriKind.Absolute, out var origin) ? $";{origin.Host}" : "");
        Register(builder.Services, settings, keys);
        Telemetry.Add(builder);

        // A failed start is reported in one sentence and without a stack.
        builder.Logging.AddFilter("Microsoft.Extensions.Hosting.Internal.Host", LogLevel.Critical);
        var app = builder.Build();
        Configure(app);
        return app;
    }

    /// <summary>Starts it; returns why it cannot, else null.</summary>
    private static async Task<string?> TryStartAsync(WebApplication app, int port)
    {
        try
        {
            await app.StartAsync();
            return null;
        }
        catch (IOException exception) when (exception.InnerException is Microsoft.AspNetCore.Connections.AddressInUseException)
        {
            return $"Port {port} is in use. Choose another with --port.";
        }
        catch (Exception exception) when (exception is not OutOfMemoryException)
        {
            return exception.Message;
        }
    }

    private static void Register(IServiceCollection services, VestigeSettings settings, DataKeys keys)
    {
        services.AddSingleton(keys);
        services.AddSingleton(settings);
        services.AddSingleton(TimeProvider.System);
        services
            .AddDataProtection()
            .PersistKeysToFileSystem(Directory.CreateDirectory(settings.KeyFolder))
            .SetApplicationName(VestigeSettings.ApplicationName);
        services.AddSingleton(new StoreFactory(settings.StorePath));
        services.AddSingleton<IConnectorKind>(provider => new StandInKind(
            name => settings.FileOf(StandInKind.Folder, name),
            provider.GetRequiredService<TimeProvider>()
        ));
        services.AddSingleton<IConnectorKind>(provider => new PostgreSqlKind(
            keys.Installation,
            provider.GetRequiredService<TimeProvider>(),
            settings.CertificateFolder
        ));
        services.AddSingleton<IProgressStore, ProgressStore>();
        services.AddSingleton<SentForms>();
        services.AddSingleton<ConnectionDirectory>();
        services.AddSingleton<ConnectionChange>();
        services.AddSingleton<ConnectionChecks>();
        services.AddHostedService(provider => provider.GetRequiredService<ConnectionChecks>());
        services.AddSingleton<IConnections>(provider => provider.GetRequiredService<ConnectionDirectory>());
        services.AddSingleton<ControlStore>();
        services.AddSingleton<IControlStore>(provider => provider.GetRequiredService<ControlStore>());
        services.AddSingleton<ISpoolCipher>(_ => new SpoolCipher(keys.Spool));
        services.AddSingleton<IMaskKeys>(_ => new MaskKeys(keys.Mask));
        services.AddSingleton<IMeasureStore, MeasureStore>();
        services.AddSingleton<QuarantineStore>();
        services.AddSingleton<IQuarantineStore>(provider => provider.GetRequiredService<QuarantineStore>());
        services.AddVestigeEngine(new EngineOptions(SpoolOptions.Within(settings.SpoolBudget)));
        services.AddSingleton<RunStore>();
        services.AddSingleton<IRunStore>(provider => provider.GetRequiredService<RunStore>());
        services.AddSingleton<RunHistory>();
        services.AddSingleton<ReconciliationStore>();
        services.AddSingleton<IReconciliationStore>(provider => provider.GetRequiredService<ReconciliationStore>());
        services.AddSingleton<SchemaVersionStore>();
        services.AddSingleton<ISchemaVersionStore>(provider => provider.GetRequiredService<SchemaVersionStore>());
        services.AddSingleton<IUndoStore, UndoStore>();
        services.AddSingleton<IRewindStore, RewindStore>();
        services.AddSingleton(_ => SummarySigner.Of(keys.Signing));
        services.AddSingleton<AlertStore>();
        services.AddSingleton<IAlertStore>(provider => provider.GetRequiredService<AlertStore>());
        services
            .AddHttpClient<IAlertSender, WebhookSender>(client => client.Timeout = TimeSpan.FromSeconds(10))
            .ConfigurePrimaryHttpMessageHandler(provider => new SocketsHttpHandler
            {
                AllowAutoRedirect = false,
                UseProxy = false,
                PooledConnectionLifetime = TimeSpan.FromMinutes(5),
                ConnectCallback = async (context, cancellation) =>
                    new System.Net.Sockets.NetworkStream(
                        await provider
                            .GetRequiredService<CallTargets>()
                            .ConnectAsync(
                                context.DnsEndPoint.Host,
                                context.DnsEndPoint.Port,
                                context.InitialRequestMessage.Options.TryGetValue(CallTargets.ToStandIn, out var toStandIn) && toStandIn,
                                cancellation
                            ),
                        ownsSocket: true
                    ),
            });
        services.AddSingleton<CallTargets>();
        services.AddSingleton<IAlertSender, MailSender>();
        services.AddSingleton<StandInPost>();
        services.AddHostedService(provider => provider.GetRequiredService<StandInPost>());
        services.AddHostedService<AlertPost>();
        services.AddSingleton<MeasureHistory>();
        services.AddSingleton<RowCounts>();
        services.AddSingleton<Catalogues>();
        services.AddSingleton<RowSamples>();
        services.AddSingleton<LatestChanges>();
        services.AddSingleton<GuideBook>();
        services.AddSingleton<ProcessMark>();
        services.AddSingleton<DemoSetup>();
        services.AddHostedService<EngineHost>();
        services.AddHostedService<MemoryReturn>();
        services
            .AddRazorPages()
            .AddMvcOptions(options =>
            {
                options.MaxModelBindingCollectionSize = VestigeSettings.MostFields;
                options.Filters.Add<KnownHandlersOnly>();
            });
        services.Configure<Microsoft.AspNetCore.Http.Features.FormOptions>(options => options.ValueCountLimit = VestigeSettings.MostFields);
        services.AddOpenApi("v1", options =>
            options.AddDocumentTransformer<ApiDocument>().AddOperationTransformer<ApiOperations>().AddSchemaTransformer<ApiSchemas>()
        );
        services.AddProblemDetails();
        services.Configure<RouteHandlerOptions>(options => options.ThrowOnBadRequest = true);
        services.ConfigureHttpJsonOptions(options => DefinitionJson.Configure(options.SerializerOptions));
        services.Configure<HostOptions>(options => options.ShutdownTimeout = TimeSpan.FromSeconds(10));
    }

    private static void Configure(WebApplication app)
    {
        app.Use(next => context => SecurityHeaders.InvokeAsync(context, next));
        app.UseWhen(IsInterface, api => api.UseExceptionHandler(
                    new ExceptionHandlerOptions
                    {
                        ExceptionHandler = Problems.HandleAsync,
                        AllowStatusCode404Response = true,
                        SuppressDiagnosticsCallback = context => Problems.IsReported(context.Exception),
                    }
                )
                .UseStatusCodePages(context => Problems.OfStatus(context.HttpContext).ExecuteAsync(context.HttpContext))
                .Use(next => context => RequestLimits.InvokeAsync(context, next)));
        app.UseWhen(
            context => !IsInterface(context),
            pages =>
                pages
                    .UseExceptionHandler(
                        new ExceptionHandlerOptions
                        {
                            ExceptionHandlingPath = "/problem",
                            SuppressDiagnosticsCallback = context => Problems.IsReported(context.Exception),
                        }
                    )
                    .UseStatusCodePagesWithReExecute("/problem", "?status={0}")
        );
        var settings = app.Services.GetRequiredService<VestigeSettings>();
        app.Use(next => context => SameSiteGuard.InvokeAsync(context, settings, next));
        app.UseStaticFiles();
        app.UseRouting();
        app.UseAntiforgery();
        app.MapRazorPages();
        app.MapOpenApi();
        app.MapGet("/healthz", () => "alive").ExcludeFromDescription();
        app.MapGet("/readyz", (CrossingEngine engine) => engine.Started ? Results.Text("ready") : Results.Text("starting", statusCode: 503))
            .ExcludeFromDescription();
        app.MapGet("/live", (HttpContext context, CrossingEngine engine, TimeProvider clock) =>
                LiveStream.ServeAsync(context, engine, clock)
            )
            .ExcludeFromDescription();
        ConnectionApi.Map(app);
        DroppedTablesApi.Map(app);
        SchemaVersionApi.Map(app);
        DrillApi.Map(app);
        CrossingApi.Map(app);
        app.MapPost(StandInPost.WebhookPath, (StandInPost post, HttpRequest request, CancellationToken cancellation) =>
                post.TakeAsync(request, cancellation)
            )
            .ExcludeFromDescription();
        AlertApi.Map(app);
        QuarantineApi.Map(app);
        ReconciliationApi.Map(app);
        TraceApi.Map(app);
        EventExport.Map(app);
        GuidePictures.Map(app);
        MetricsApi.Map(app);
    }

    /// <summary>Who calls these paths is a program, and is answered with problem documents.</summary>
    private static bool IsInterface(HttpContext context) =>
        context.Request.Path.StartsWithSegments("/api", StringComparison.OrdinalIgnoreCase)
        || context.Request.Path.StartsWithSegments("/events/export", StringComparison.OrdinalIgnoreCase);

    private static void Tell(WebApplication app, VestigeSettings settings)
    {
        Console.WriteLine($"Vestige is at http://127.0.0.1:{settings.Port}");
        Console.WriteLine($"Data folder: {settings.DataFolder}   keys: {settings.KeyFolder}");
        if (app.Services.GetRequiredService<DemoSetup>().Present)
        {
            Console.WriteLine(
                $"Demo: the invented libraries' database circulation ({Figures.Of(settings.DemoLoans, "loan")} at first, 10 tables, with "
                    + "a workload), "
                    + "the empty warehouse and ledger, one running crossing, one draft"
                    + (settings.WithDemoStates ? "; others reach different states within a minute." : ".")
            );
        }
    }
}
