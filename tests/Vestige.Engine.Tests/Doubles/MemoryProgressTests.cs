using Vestige.Engine.Ports;
using Vestige.Tests.Conformance;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>The double keeps to what the real stores keep to.</summary>
public sealed class MemoryProgressTests : ProgressStoreConformance
{
    protected override Task<IProgressStore> OpenAsync() => Task.FromResult<IProgressStore>(new MemoryProgress());

    protected override IProgressStore Again(IProgressStore store) => store;
}
