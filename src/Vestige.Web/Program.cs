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

const int ThreadsAtHand = 48;

// SQLite calls block their thread; with a thread at hand for each, no page waits for a crossing.
ThreadPool.SetMinThreads(ThreadsAtHand, ThreadsAtHand);

var builder = WebApplication.CreateBuilder(new WebApplicationOptions { Args = args, ContentRootPath = AppContext.BaseDirectory });
VestigeSettings settings;
DataFolderLock folder;
DataKeys keys;
try
{
    settings = VestigeSettings.From(builder.Configuration);
    ListenCheck.Check(settings.Port);
    OwnerOnly.MakeFromNowOn();
    folder = DataFolderLock.Take(settings.DataFolder);
}
catch (Exception exception) when (exception is IOException or UnauthorizedAccessException or InvalidOperationException)
{
    await Console.Error.WriteLineAsync($"Vestige cannot start. {exception.Message}");
    return 1;
}

using (folder)
{
    var port = settings.Port;
    try
    {
        OwnerOnly.Enforce(settings.DataFolder);
        keys = DataKeys.Open(settings);
    }
    catch (Exception exception) when (exception is IOException or UnauthorizedAccessException or InvalidOperationException)
    {
        await Console.Error.WriteLineAsync($"Vestige cannot start. {exception.Message}");
        return 1;
    }

    builder.WebHost.ConfigureKestrel(kestrel => kestrel.Limits.MaxRequestBodySize = RequestLimits.LongestBody);
    builder.WebHost.UseUrls($"http://127.0.0.1:{port}");
    builder.Configuration["AllowedHosts"] =
        "127.0.0.1;localhost;[::1]" + (Uri.TryCreate(settings.PublicOrigin, UriKind.Absolute, out var origin) ? $";{origin.Host}" : "");
    Register(builder.Services, settings, keys);
    Telemetry.Add(builder);

    // A failed start is reported below, in one sentence and without a stack.
    builder.Logging.AddFilter("Microsoft.Extensions.Hosting.Internal.Host", LogLevel.Critical);
    var app = builder.Build();
    Configure(app);
    try
    {
        await app.StartAsync();
    }
    catch (IOException exception) when (exception.InnerException is Microsoft.AspNetCore.Connections.AddressInUseException)
    {
        await Console.Error.WriteLineAsync($"Vestige cannot start: port {port} is in use. Choose another with --port.");
        return 1;
    }
    catch (Exception exception) when (exception is not OutOfMemoryException)
    {
        await Console.Error.WriteLineAsync($"Vestige cannot start. {exception.Message}");
        return 1;
    }

    Tell(app, settings, port);
    await app.WaitForShutdownAsync();
}

return 0;

static void Register(IServiceCollection services, VestigeSettings settings, DataKeys keys)
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

static void Configure(WebApplication app)
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
    app.MapGet("/live", (HttpContext context, CrossingEngine engine, TimeProvider clock) => LiveStream.ServeAsync(context, engine, clock))
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
static bool IsInterface(HttpContext context) =>
    context.Request.Path.StartsWithSegments("/api", StringComparison.OrdinalIgnoreCase)
    || context.Request.Path.StartsWithSegments("/events/export", StringComparison.OrdinalIgnoreCase);

static void Tell(WebApplication app, VestigeSettings settings, int port)
{
    Console.WriteLine($"Vestige is at http://127.0.0.1:{port}");
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

/// <summary>For tests that host the application in their own process.</summary>
public partial class Program;
