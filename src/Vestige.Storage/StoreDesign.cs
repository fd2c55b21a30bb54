using Microsoft.EntityFrameworkCore.Design;

namespace Vestige.Storage;

/// <summary>Lets the migration tool make a store; it opens no file.</summary>
public sealed class StoreDesign : IDesignTimeDbContextFactory<VestigeStore>
{
    public VestigeStore CreateDbContext(string[] args) => new StoreFactory("design.db").CreateDbContext();
}
